//! What tells an unchanged file from a changed one without reading it.

use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// How long a file has to have been left alone: a change within one tick of the clock that stamps files would not show.
const SETTLED: Duration = Duration::from_secs(1);

/// Where a file lies, how long it is, and when it was last changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    device: u64,
    inode: u64,
    size: u64,
    /// Seconds and nanoseconds of the last change of its bytes, then of anything about it, which nobody can set.
    times: [i64; 4],
}

impl Stamp {
    /// Returns the stamp of an open file; nothing while it has just been changed, as another change could bear the same time.
    ///
    /// # Errors
    /// The system's own.
    pub fn of(file: &File) -> io::Result<Option<Stamp>> {
        let facts = file.metadata()?;
        let stamp = Stamp {
            device: facts.dev(),
            inode: facts.ino(),
            size: facts.len(),
            times: [facts.mtime(), facts.mtime_nsec(), facts.ctime(), facts.ctime_nsec()],
        };
        let settled = SystemTime::now() - SETTLED;
        Ok(Some(stamp).filter(|stamp| stamp.changed() < settled))
    }

    /// Returns when anything about the file was last changed.
    fn changed(&self) -> SystemTime {
        let [_, _, seconds, nanoseconds] = self.times;
        UNIX_EPOCH + Duration::new(seconds.max(0) as u64, nanoseconds.clamp(0, 999_999_999) as u32)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::{self, FileTimes};

    #[test]
    fn a_change_shows_even_when_length_and_time_are_put_back() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("weights");
        fs::write(&path, "boats").unwrap();
        assert_eq!(
            Stamp::of(&File::open(&path).unwrap()).unwrap(),
            None,
            "it has just been written"
        );
        let settled = || loop {
            if let Some(stamp) = Stamp::of(&File::open(&path).unwrap()).unwrap() {
                return stamp;
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        let (stamp, modified) = (settled(), path.metadata().unwrap().modified().unwrap());
        assert_eq!(settled(), stamp);
        fs::write(&path, "ships").unwrap();
        let file = File::options().write(true).open(&path).unwrap();
        file.set_times(FileTimes::new().set_modified(modified)).unwrap();
        assert_eq!(path.metadata().unwrap().modified().unwrap(), modified);
        assert_ne!(settled(), stamp);
    }
}
