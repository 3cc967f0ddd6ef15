//! The model that is to fit, with or without weights.

use crate::failure::Failure;
use std::path::Path;
use vastrelay_weights::{Build, Kind, ModelDescription, StoredAs};

/// A model by its description, and what its tensors are stored as.
pub struct Subject {
    /// What it is called.
    pub name: String,
    /// What it is.
    pub description: ModelDescription,
    stored: StoredAs,
}

impl Subject {
    /// Reads a folder, a GGUF file or a config by itself.
    pub fn open(path: &Path) -> Result<Subject, Failure> {
        if Build::is_one(path) {
            return Err(Failure::failed(format!(
                "{} is a build for the cpu; use the checkpoint that it was made of",
                path.display()
            )));
        }
        let description = ModelDescription::open(path).map_err(Failure::failed)?;
        let stored = StoredAs::open(path).map_err(Failure::failed)?;
        let named = if path.ends_with("config.json") {
            path.parent()
        } else {
            Some(path)
        };
        let name = named.and_then(Path::file_name).unwrap_or(path.as_os_str());
        Ok(Subject {
            name: name.to_string_lossy().into_owned(),
            description,
            stored,
        })
    }

    /// Returns what a tensor is stored as.
    pub fn kind(&self, tensor: &str) -> Kind {
        self.stored.kind(tensor)
    }
}
