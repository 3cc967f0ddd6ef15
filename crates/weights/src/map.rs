//! Files in memory.

use crate::error::WeightsError;
use memmap2::Mmap;
use std::fs::File;
use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;

/// The bytes of a file, mapped or read; clones share them.
#[derive(Clone)]
pub struct FileBytes(Arc<dyn AsRef<[u8]> + Send + Sync>);

impl Deref for FileBytes {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        (*self.0).as_ref()
    }
}

impl std::fmt::Debug for FileBytes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} bytes", self.len())
    }
}

impl From<Vec<u8>> for FileBytes {
    fn from(bytes: Vec<u8>) -> FileBytes {
        FileBytes(Arc::new(bytes))
    }
}

/// Maps a file of a model's folder into memory.
///
/// # Errors
/// When it cannot be read, is not a regular file, or is a link out of the folder.
pub(crate) fn map(path: &Path) -> Result<FileBytes, WeightsError> {
    map_file(&open(path)?, path)
}

/// Opens a file of a model's folder.
///
/// # Errors
/// As of [`map`].
pub(crate) fn open(path: &Path) -> Result<File, WeightsError> {
    vastrelay_files::open(path, u64::MAX).map_err(|source| unreadable(path, source))
}

/// Maps a file that is open; `path` says which.
///
/// # Errors
/// When the system refuses that.
pub(crate) fn map_file(file: &File, path: &Path) -> Result<FileBytes, WeightsError> {
    // SAFETY: the map is read only. A checkpoint is not to be changed while it is served; if somebody cuts the file short all
    // the same, the process ends by a bus error, which no reader of a mapped file can prevent.
    let map = unsafe { Mmap::map(file) }.map_err(|source| unreadable(path, source))?;
    Ok(FileBytes(Arc::new(map)))
}

pub(crate) fn unreadable(path: &Path, source: std::io::Error) -> WeightsError {
    WeightsError::Read {
        path: path.to_owned(),
        source,
    }
}
