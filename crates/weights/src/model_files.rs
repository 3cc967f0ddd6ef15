//! The files of a model, opened once for all that is read of them.

use crate::error::WeightsError;
use crate::gguf::Gguf;
use crate::place::check_place;
use std::path::{Path, PathBuf};

/// A model's folder, or its one file, whose header has been read then.
pub struct ModelFiles {
    path: PathBuf,
    gguf: Option<Gguf>,
}

impl ModelFiles {
    /// Opens a GGUF file; of a folder, nothing is read yet.
    ///
    /// # Errors
    /// When no model stands at the path, or the file cannot be read or is not whole.
    pub fn open(path: &Path) -> Result<ModelFiles, WeightsError> {
        check_place(path, false)?;
        ModelFiles::of(path)
    }

    /// As [`ModelFiles::open`], and for a config.json by itself, which has no weights.
    ///
    /// # Errors
    /// As there.
    pub fn open_or_config(path: &Path) -> Result<ModelFiles, WeightsError> {
        check_place(path, true)?;
        ModelFiles::of(path)
    }

    fn of(path: &Path) -> Result<ModelFiles, WeightsError> {
        Ok(ModelFiles {
            gguf: Gguf::is_one(path).then(|| Gguf::open(path)).transpose()?,
            // A confined path is absolute, and would lose the mark of its root.
            path: match vastrelay_files::is_confined(path) {
                true => path.to_owned(),
                false => std::path::absolute(path).unwrap_or(path.to_owned()),
            },
        })
    }

    /// Returns the path of the folder or file, from the root on.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Returns the header of the file, where it is one.
    pub fn gguf(&self) -> Option<&Gguf> {
        self.gguf.as_ref()
    }
}
