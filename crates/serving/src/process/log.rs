//! What a process has said, line by line.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

/// Bytes of the file beyond which it begins anew.
const MOST_FILE: u64 = 1 << 20;
/// Bytes that are read at a time.
const PART: u64 = 256 << 10;
/// Characters of a line that are shown.
const MOST_LINE: usize = 1_000;

/// Reads a file that another process adds to.
pub struct Log {
    file: File,
    read: u64,
    /// The beginning of a line whose end has not come.
    begun: Vec<u8>,
}

impl Log {
    /// Returns a reader of a file from its beginning on.
    pub fn new(file: File) -> Log {
        Log {
            file,
            read: 0,
            begun: Vec::new(),
        }
    }

    /// Returns a reader of what is added to a file from now on.
    ///
    /// # Errors
    /// When its end cannot be found.
    pub fn at_end(mut file: File) -> io::Result<Log> {
        let read = file.seek(SeekFrom::End(0))?;
        Ok(Log { read, ..Log::new(file) })
    }

    /// Returns the lines that have come since this was asked last; the file begins anew when it has grown large.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn lines(&mut self) -> io::Result<Vec<String>> {
        self.file.seek(SeekFrom::Start(self.read))?;
        let come = (&self.file).take(PART).read_to_end(&mut self.begun)?;
        self.read += come as u64;
        if self.read >= MOST_FILE {
            // What is said between the two is lost.
            self.file.set_len(0)?;
            self.read = 0;
        }
        let whole = self
            .begun
            .iter()
            .rposition(|byte| *byte == b'\n')
            .map_or(0, |end| end + 1);
        let cut = if whole == 0 && self.begun.len() > 4 * MOST_LINE {
            self.begun.len()
        } else {
            whole
        };
        let lines: Vec<u8> = self.begun.drain(..cut).collect();
        let lines = String::from_utf8_lossy(&lines);
        Ok(lines
            .lines()
            .filter(|line| !line.trim().is_empty())
            .map(shortened)
            .collect())
    }
}

/// Returns the beginning of a line, with nothing in it that a terminal would obey.
fn shortened(line: &str) -> String {
    let shown = line.chars().take(MOST_LINE);
    shown.map(|c| if c.is_control() { ' ' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    fn append(path: &std::path::Path) -> File {
        File::options().create(true).append(true).read(true).open(path).unwrap()
    }

    #[test]
    fn lines_come_whole_once_and_in_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("1.log");
        let (mut said, mut log) = (append(&path), Log::new(append(&path)));
        write!(said, "first\nsec").unwrap();
        assert_eq!(log.lines().unwrap(), ["first"]);
        write!(said, "ond\n\u{1b}[2Jthird\n").unwrap();
        assert_eq!(log.lines().unwrap(), ["second", " [2Jthird"]);
        assert!(log.lines().unwrap().is_empty());
    }

    #[test]
    fn a_file_stays_small_however_much_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("1.log");
        let (mut said, mut log) = (append(&path), Log::new(append(&path)));
        let mut lines = 0;
        for _ in 0..100 {
            said.write_all(format!("{}\n", "x".repeat(99)).repeat(1_000).as_bytes())
                .unwrap();
            lines += log.lines().unwrap().len();
            assert!(path.metadata().unwrap().len() <= MOST_FILE + (100 << 10));
        }
        assert!(lines > 90_000, "{lines}");
    }
}
