//! A file that describes an endpoint, which has the file's name.

use crate::args::endpoint::endpoint_name;
use std::path::{Path, PathBuf};
use vastrelay_files::reason;

/// Most bytes of a spec.
const MOST_SPEC: u64 = 1 << 20;

/// What such a file holds.
pub struct SpecFile {
    /// The endpoint's name.
    pub name: String,
    /// The spec.
    pub text: String,
    /// The folder that paths in the spec begin at, from the root on.
    pub beside: PathBuf,
}

impl SpecFile {
    /// Reads a file.
    ///
    /// # Errors
    /// When it cannot be read, is no text, or its name cannot be an endpoint's; the text names the file.
    pub fn read(file: &Path) -> Result<SpecFile, String> {
        let failed = |error: &dyn std::fmt::Display| format!("{}: {error}", file.display());
        let bytes = vastrelay_files::read(file, MOST_SPEC).map_err(|error| failed(&reason(&error)))?;
        let text = String::from_utf8(bytes).map_err(|_| failed(&"it is no text"))?;
        let name = file.file_stem().unwrap_or_default().to_string_lossy();
        let name = endpoint_name(&name).map_err(|error| failed(&format!("its name is the endpoint's: {error}")))?;
        let beside = std::path::absolute(file).map_err(|error| failed(&reason(&error)))?;
        Ok(SpecFile {
            name,
            text,
            beside: beside.parent().unwrap_or(&beside).to_owned(),
        })
    }
}
