//! Files that others made: a model's description, its tokenizer, a certificate.
//!
//! Such a file may be a device that never ends, a pipe that never answers, or a link to somewhere else. Here a file is
//! opened only when it is a regular one of bounded size that lies in the folder where it was looked for.
#![warn(missing_docs)]

mod confined;
mod reason;
mod stamp;

pub use confined::{Roots, WorkingDirectory, is_confined, shown, take_working_directory, working_directory};
pub use reason::reason;
pub use stamp::Stamp;

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// Opens a regular file of up to `most` bytes.
///
/// A link is followed when it stays in the folder of the file that was asked for, or, for a path that is confined to a root,
/// when it stays beneath that.
///
/// # Errors
/// The system's own, and [`io::ErrorKind::InvalidInput`] for a file that is not regular, too large or elsewhere.
pub fn open(path: &Path, most: u64) -> io::Result<File> {
    if is_confined(path) {
        return open_linked(path, most);
    }
    let place = path.canonicalize()?;
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty())
        && !place.starts_with(folder.canonicalize()?)
    {
        return Err(refused(format!(
            "it is a link to {}, outside its folder",
            place.display()
        )));
    }
    open_linked(path, most)
}

/// As [`open`], for a file that its owner named and that may lie behind any link.
///
/// # Errors
/// As of [`open`].
pub fn open_linked(path: &Path, most: u64) -> io::Result<File> {
    if let Some(opened) = confined::open(path) {
        return regular(opened?, most);
    }
    // Looked at before it is opened: opening a pipe would wait for its other end.
    if !path.metadata()?.is_file() {
        return Err(refused("it is not a regular file".into()));
    }
    regular(File::open(path)?, most)
}

fn regular(file: File, most: u64) -> io::Result<File> {
    let facts = file.metadata()?;
    if !facts.is_file() {
        return Err(refused("it is not a regular file".into()));
    }
    if facts.len() > most {
        return Err(refused(format!("it has {} bytes; up to {most} are read", facts.len())));
    }
    Ok(file)
}

/// Reads a regular file of up to `most` bytes.
///
/// # Errors
/// As of [`open`].
pub fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    take(open(path, most)?, most)
}

/// As [`read`], for a file that its owner named and that may lie behind any link.
///
/// # Errors
/// As of [`open`].
pub fn read_linked(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    take(open_linked(path, most)?, most)
}

fn take(file: File, most: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    // It may have grown since.
    file.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        return Err(refused(format!("it has more than {most} bytes")));
    }
    Ok(bytes)
}

fn refused(reason: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, reason)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn refusal(path: &Path, most: u64) -> String {
        let error = read(path, most).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::InvalidInput, "{error}");
        error.to_string()
    }

    #[test]
    fn only_regular_files_of_bounded_size_in_their_folder_are_read() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("a"), "1234").unwrap();
        assert_eq!(read(&at("a"), 4).unwrap(), b"1234");
        assert!(refusal(&at("a"), 3).contains("4 bytes; up to 3"));
        assert!(refusal(folder.path(), 9).contains("not a regular file"));
        assert_eq!(read(&at("b"), 9).unwrap_err().kind(), io::ErrorKind::NotFound);
        symlink(at("a"), at("inside")).unwrap();
        assert_eq!(read(&at("inside"), 4).unwrap(), b"1234");
        symlink("/dev/zero", at("endless")).unwrap();
        assert!(refusal(&at("endless"), 9).contains("outside its folder"));
        assert!(
            read_linked(&at("endless"), 9)
                .unwrap_err()
                .to_string()
                .contains("not a regular file")
        );
        let elsewhere = tempfile::NamedTempFile::new().unwrap();
        symlink(elsewhere.path(), at("outside")).unwrap();
        assert!(refusal(&at("outside"), 9).contains("outside its folder"));
        assert_eq!(read_linked(&at("outside"), 9).unwrap(), b"");
    }

    #[test]
    fn a_folder_may_itself_lie_behind_a_link() {
        let folder = tempfile::tempdir().unwrap();
        let real = folder.path().join("real");
        std::fs::create_dir(&real).unwrap();
        std::fs::write(real.join("a"), "x").unwrap();
        symlink(&real, folder.path().join("link")).unwrap();
        assert_eq!(read(&folder.path().join("link/a"), 1).unwrap(), b"x");
    }
}
