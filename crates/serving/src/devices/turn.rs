//! Whose turn it is on a device that several processes share.

use std::fs::{File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

/// A place in the line for one device. Processes share it through two files, so a turn ends with the process that has it.
///
/// Whoever has a turn holds the second file, and whoever comes next the first one; so nobody is served twice while another waits.
pub struct Turn {
    next: File,
    now: File,
}

/// The right to compute on a device, given back when it is dropped.
pub struct Taken<'a>(&'a Turn);

impl Turn {
    /// Joins the line of a device.
    ///
    /// # Errors
    /// When its files cannot be opened.
    pub fn open(device: &Path) -> io::Result<Turn> {
        let open = |end: &str| {
            let mut path = PathBuf::from(device).into_os_string();
            path.push(end);
            OpenOptions::new().create(true).append(true).open(path)
        };
        Ok(Turn {
            next: open(".next")?,
            now: open(".now")?,
        })
    }

    /// Waits for a turn.
    ///
    /// # Errors
    /// When the system keeps no locks for these files.
    pub fn take(&self) -> io::Result<Taken<'_>> {
        self.next.lock()?;
        let now = self.now.lock();
        self.next.unlock()?;
        now.map(|()| Taken(self))
    }
}

impl Drop for Taken<'_> {
    fn drop(&mut self) {
        let _ = self.0.now.unlock();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Barrier;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[test]
    fn nobody_has_two_turns_while_another_waits() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sim-0");
        let (inside, begin) = (AtomicUsize::new(0), Barrier::new(2));
        let order = std::sync::Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for who in 0..2 {
                let (path, inside, begin, order) = (&path, &inside, &begin, &order);
                scope.spawn(move || {
                    let turn = Turn::open(path).unwrap();
                    begin.wait();
                    for _ in 0..50 {
                        let taken = turn.take().unwrap();
                        assert_eq!(inside.fetch_add(1, Ordering::SeqCst), 0, "two compute at once");
                        order.lock().unwrap().push(who);
                        // Long enough for the other one to come to the line.
                        std::thread::sleep(std::time::Duration::from_millis(2));
                        inside.fetch_sub(1, Ordering::SeqCst);
                        drop(taken);
                    }
                });
            }
        });
        let order = order.into_inner().unwrap();
        let twice = order.windows(2).filter(|pair| pair[0] == pair[1]).count();
        assert!(twice <= 10, "they take turns: {order:?}");
    }

    #[test]
    fn a_turn_ends_with_whoever_has_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sim-0");
        let first = Turn::open(&path).unwrap();
        std::mem::forget(first.take().unwrap());
        drop(first);
        Turn::open(&path).unwrap().take().unwrap();
    }
}
