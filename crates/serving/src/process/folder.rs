//! The folder with the sockets and logs of processes: this user's alone.

use super::named;
use nix::unistd::geteuid;
use std::ffi::OsStr;
use std::fs::{DirBuilder, File, OpenOptions};
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

/// Nobody else may even look.
const MODE: u32 = 0o700;
/// The mode of files in it.
const FILE_MODE: u32 = 0o600;

/// A folder that is this user's alone.
pub struct Folder {
    path: PathBuf,
    /// Sockets are found through it, as their own paths may be longer than the system takes.
    handle: File,
}

/// A folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum FolderError {
    /// The system refuses it.
    #[error("{path} cannot be used: {source}")]
    Io {
        /// The folder.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// Others could use it.
    #[error("{path} is not this user's alone (owner {owner}, mode {mode:o}); remove it, or choose another data folder")]
    Open {
        /// The folder.
        path: PathBuf,
        /// The number of the user that it belongs to.
        owner: u32,
        /// Who may do what.
        mode: u32,
    },
}

impl Folder {
    /// Opens a folder, or makes it.
    ///
    /// # Errors
    /// When it cannot be made, or belongs to others or could be used by them.
    pub fn open(path: &Path) -> Result<Folder, FolderError> {
        let failed = |source| FolderError::Io {
            path: path.to_owned(),
            source,
        };
        match DirBuilder::new().mode(MODE).create(path) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => Err(failed(error)),
            _ => Folder::existing(path),
        }
    }

    /// Opens a folder that exists already.
    ///
    /// # Errors
    /// When there is none, or it belongs to others or could be used by them.
    pub fn existing(path: &Path) -> Result<Folder, FolderError> {
        let failed = |source| FolderError::Io {
            path: path.to_owned(),
            source,
        };
        let handle = File::open(path).map_err(failed)?;
        let facts = handle.metadata().map_err(failed)?;
        let (owner, mode) = (facts.uid(), facts.mode() & 0o777);
        if !facts.is_dir() || owner != geteuid().as_raw() || mode != MODE {
            return Err(FolderError::Open {
                path: path.to_owned(),
                owner,
                mode,
            });
        }
        Ok(Folder {
            path: path.to_owned(),
            handle,
        })
    }

    /// Returns where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Listens at a socket of a name, in the place of one that was there before.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn listen(&self, name: &str) -> io::Result<UnixListener> {
        let _ = std::fs::remove_file(self.path.join(named(name, "sock")));
        UnixListener::bind(self.socket(name))
    }

    /// Connects to the socket of a name.
    ///
    /// # Errors
    /// When nobody listens there.
    pub fn connect(&self, name: &str) -> io::Result<UnixStream> {
        UnixStream::connect(self.socket(name))
    }

    /// Returns the names of its sockets.
    pub fn names(&self) -> Vec<String> {
        let entries = std::fs::read_dir(&self.path).into_iter().flatten().flatten();
        let sockets = entries.map(|entry| entry.path());
        let sockets = sockets.filter(|path| path.extension() == Some(OsStr::new("sock")));
        sockets
            .filter_map(|path| Some(path.file_stem()?.to_str()?.to_owned()))
            .collect()
    }

    /// Removes the socket and the log of a name.
    pub fn remove(&self, name: &str) {
        for end in ["sock", "log"] {
            let _ = std::fs::remove_file(self.path.join(named(name, end)));
        }
    }

    /// Returns the file that what is said under a name is added to.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn log(&self, name: &str) -> io::Result<File> {
        let path = self.path.join(named(name, "log"));
        OpenOptions::new()
            .create(true)
            .append(true)
            .read(true)
            .mode(FILE_MODE)
            .open(path)
    }

    /// Returns a path to the socket of a name that is short enough for the system; valid while this folder is open.
    pub fn socket(&self, name: &str) -> PathBuf {
        Path::new("/proc/self/fd")
            .join(self.handle.as_raw_fd().to_string())
            .join(named(name, "sock"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::Permissions;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_folder_that_others_could_use_is_refused() {
        let parent = tempfile::tempdir().unwrap();
        let path = parent.path().join("workers");
        drop(Folder::open(&path).unwrap());
        assert!(Folder::open(&path).is_ok(), "it is opened again");
        std::fs::set_permissions(&path, Permissions::from_mode(0o755)).unwrap();
        let refused = Folder::open(&path).err().unwrap().to_string();
        assert!(refused.contains("mode 755"), "{refused}");
    }

    #[test]
    fn sockets_are_found_however_long_their_paths_are() {
        let parent = tempfile::tempdir().unwrap();
        let path = parent.path().join("a".repeat(200));
        let folder = Folder::open(&path).unwrap();
        let listener = folder.listen("1").unwrap();
        let _caller = folder.connect("1").unwrap();
        assert!(listener.accept().is_ok());
        drop(folder.listen("1").unwrap());
        assert_eq!(folder.names(), ["1"]);
        folder.remove("1");
        assert!(folder.names().is_empty());
    }
}
