//! How further models are loaded.

use std::path::{Path, PathBuf};
use vastrelay_serving::ReplicaSettings;

/// How models are loaded.
pub struct Loader {
    /// Settings for each of them.
    pub settings: ReplicaSettings,
    /// Where the demo's weights are unpacked.
    pub data: PathBuf,
    /// Unpacks them and returns their folder.
    pub unpack_demo: fn(&Path) -> Result<PathBuf, String>,
}
