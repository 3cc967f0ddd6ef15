//! What tells endpoints apart before anything of theirs is planned.

use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;
use vastrelay_fleet::{Answering, Settings, Upkeep};

/// The components of an endpoint. Equal components mean the same release.
#[derive(Clone, Debug, PartialEq)]
pub struct ReleaseFingerprint {
    /// The hash of the model's text side.
    pub content: String,
    /// The identity of its weights.
    pub weights: Value,
    /// The settings of its engine.
    pub settings: Settings,
    /// The settings for answering calls.
    pub answering: Answering,
    /// The text of the chat template that its spec names.
    pub template: Option<String>,
    /// How long it is to be there.
    pub upkeep: Upkeep,
}

impl ReleaseFingerprint {
    /// Returns whether another one is served by the same replicas: what it is made of differs at most in how calls are answered.
    pub fn runs_on_same_replicas_as(&self, other: &ReleaseFingerprint) -> bool {
        (&self.content, &self.weights, &self.settings) == (&other.content, &other.weights, &other.settings)
    }

    /// Returns what makes a release with the machine's part, as JSON.
    pub fn release_on(&self, machine: &Value) -> String {
        let mut settings = machine.clone();
        if let Some(beyond) = self.beyond_the_machine() {
            settings["answering"] = beyond;
        }
        settings.to_string()
    }

    /// Returns what makes a release besides the machine's part, where anything is said about it.
    fn beyond_the_machine(&self) -> Option<Value> {
        let says_nothing = self.answering == Answering::default() && self.upkeep == Upkeep::default();
        let template = self
            .template
            .as_ref()
            .map(|text| blake3::hash(text.as_bytes()).to_hex().to_string());
        (!says_nothing).then(|| {
            json!({
                "answering": self.answering,
                "template": template,
                "upkeep": self.upkeep,
            })
        })
    }
}

/// Returns what tells weights from others without reading them all: their files' names, sizes and times.
pub fn weights_of(path: &Path) -> Value {
    let mark = |file: &Path| -> Option<Value> {
        let facts = file.metadata().ok().filter(|facts| facts.is_file())?;
        let changed = facts.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
        Some(json!([
            file.file_name()?.to_string_lossy(),
            facts.len(),
            changed.as_millis() as u64
        ]))
    };
    if path.is_file() {
        return json!([mark(path)]);
    }
    let is_weights = |file: &PathBuf| file.extension().is_some_and(|end| end == "safetensors");
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(is_weights).collect();
    files.sort();
    files.iter().map(|file| mark(file)).collect()
}
