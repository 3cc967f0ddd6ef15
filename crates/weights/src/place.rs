//! Paths that were given as models and are none.

use crate::error::WeightsError;
use std::path::Path;

/// The accepted forms of a model.
const ACCEPTED: &str = "name a folder with config.json and safetensors files, or a GGUF file";

/// Refuses a path that cannot be a model: one that is not there, an address, a name in a registry, or a file of another kind. A bare
/// config.json passes with `takes_config`. Paths that are confined to a root are looked at when they are opened.
///
/// # Errors
/// The cause, and the accepted forms.
pub fn check_place(path: &Path, takes_config: bool) -> Result<(), WeightsError> {
    if vastrelay_files::is_confined(path) {
        return Ok(());
    }
    let refuse = |reason: String| {
        Err(WeightsError::NoModel {
            path: path.to_owned(),
            reason,
        })
    };
    let text = path.to_string_lossy();
    let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
    let ending = ending.as_deref().unwrap_or("");
    if let Some(reason) = no_path(&text) {
        return refuse(reason);
    }
    if path.is_dir() {
        return match path.join("config.json").exists() {
            false if path.join("adapter_config.json").exists() => refuse(
                "it is a folder with an adapter, which changes another model; adapters are not served: merge it into its model".into(),
            ),
            _ => Ok(()),
        };
    }
    if !path.exists() {
        return refuse(match ending {
            "gguf" => format!("there is no such GGUF file; {ACCEPTED}"),
            _ => format!("there is no such file or folder; {ACCEPTED}"),
        });
    }
    let is_config = path.file_name().is_some_and(|name| name == "config.json");
    match ending {
        "gguf" => Ok(()),
        "json" if takes_config => Ok(()),
        "json" if is_config => refuse(
            "it is a config without weights, which `vastrelay fit`, `model inspect` and `endpoint new` take; to serve the model, name its \
             folder"
                .into(),
        ),
        "safetensors" => refuse("it is a part of a checkpoint; name its folder".into()),
        "bin" | "pt" | "pth" | "ckpt" | "pkl" => {
            refuse("it is a pickle, which could run code and is never read; convert it to safetensors".into())
        }
        _ => refuse(format!("it is a file of another kind; {ACCEPTED}")),
    }
}

/// Returns sentences about files beside a model's weights that are not used.
pub fn unused_beside(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    let with_ending = |endings: &[&str]| {
        let has = |name: &&String| endings.iter().any(|ending| name.ends_with(ending));
        names.iter().filter(has).cloned().collect::<Vec<_>>().join(", ")
    };
    let mut said = Vec::new();
    for (files, what) in [
        (with_ending(&[".py"]), "code, which is never run"),
        (
            with_ending(&[".bin", ".pt", ".pth", ".ckpt", ".pkl"]),
            "pickles, which could run code and are never read",
        ),
        (
            with_ending(&["adapter_config.json", "adapter_model.safetensors"]),
            "an adapter, which is not applied",
        ),
    ] {
        if !files.is_empty() {
            said.push(format!("{files}: {what}"));
        }
    }
    said
}

/// Returns why a text names no path of a model: it is an address, or it looks like `owner/model`, two plain words of which the first is no
/// folder here.
pub fn no_path(text: &str) -> Option<String> {
    if text.contains("://") {
        return Some(
            "it is an address; models are read from this machine's disk: download it, then name its folder".into(),
        );
    }
    let path = Path::new(text);
    let is_plain = path
        .components()
        .all(|part| matches!(part, std::path::Component::Normal(_)));
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty());
    let is_name = is_plain && path.components().count() == 2 && parent.is_some_and(|parent| !parent.exists());
    is_name.then(|| {
        format!("there is no such folder here, and no registry is asked for names: download the model, then {ACCEPTED}")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_mistake_has_its_own_sentence() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for name in ["config.json", "model.safetensors", "pytorch_model.bin", "notes.txt"] {
            std::fs::write(at(name), "{}").unwrap();
        }
        let adapter = at("adapter");
        std::fs::create_dir(&adapter).unwrap();
        std::fs::write(adapter.join("adapter_config.json"), "{}").unwrap();
        let refused = |path: &Path| check_place(path, false).unwrap_err().to_string();
        for (path, words) in [
            (at("missing"), "there is no such file or folder"),
            (at("missing.gguf"), "no such GGUF file"),
            ("https://models.example/a".into(), "it is an address"),
            ("isles/harbour-8b".into(), "no registry is asked"),
            (at("config.json"), "without weights"),
            (at("model.safetensors"), "name its folder"),
            (at("pytorch_model.bin"), "pickle"),
            (at("notes.txt"), "another kind"),
            (adapter, "adapter"),
        ] {
            let text = refused(&path);
            assert!(text.contains(words), "{text}");
        }
        assert!(check_place(&at("config.json"), true).is_ok());
        assert!(check_place(folder.path(), false).is_ok());
    }
}
