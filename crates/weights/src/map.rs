//! Files in memory.

use crate::error::WeightsError;
use memmap2::Mmap;
use std::fs::File;
use std::path::Path;

/// Maps a file of a model's folder into memory.
///
/// # Errors
/// When it cannot be read, is not a regular file, or is a link out of the folder.
pub(crate) fn map(path: &Path) -> Result<Mmap, WeightsError> {
    map_file(path, vastrelay_files::open(path, u64::MAX))
}

/// Maps a file that its owner named; it may lie behind any link.
///
/// # Errors
/// When it cannot be read or is not a regular file.
pub(crate) fn map_named(path: &Path) -> Result<Mmap, WeightsError> {
    map_file(path, vastrelay_files::open_linked(path, u64::MAX))
}

fn map_file(path: &Path, file: std::io::Result<File>) -> Result<Mmap, WeightsError> {
    let read = |source| WeightsError::Read {
        path: path.to_owned(),
        source,
    };
    let file = file.map_err(read)?;
    // SAFETY: the map is read only. A checkpoint is not to be changed while it is served; if somebody cuts the file short all
    // the same, the process ends by a bus error, which no reader of a mapped file can prevent.
    unsafe { Mmap::map(&file) }.map_err(read)
}
