//! The demo model, compiled into the binary.

use rust_embed::RustEmbed;
use std::path::{Path, PathBuf};

#[derive(RustEmbed)]
#[folder = "../../demo/models/pierdesk-1"]
struct Pierdesk;

/// Writes the model's files where they are not there yet and returns their folder.
///
/// A file is written beside its place and then moved, so that a service that maps the old one is not disturbed.
pub fn unpack(data: &Path) -> Result<PathBuf, String> {
    let folder = data.join("models").join("pierdesk@1");
    let failed = |error: std::io::Error| {
        format!(
            "cannot write the demo model to {}: {}",
            folder.display(),
            vastrelay_files::reason(&error)
        )
    };
    std::fs::create_dir_all(&folder).map_err(failed)?;
    for name in Pierdesk::iter() {
        let file = Pierdesk::get(&name).expect("a listed file is there");
        let path = folder.join(name.as_ref());
        if std::fs::read(&path).is_ok_and(|there| there == *file.data) {
            continue;
        }
        let beside = folder.join(format!("{name}.{}", std::process::id()));
        std::fs::write(&beside, &file.data).map_err(failed)?;
        std::fs::rename(&beside, &path).map_err(failed)?;
    }
    Ok(folder)
}
