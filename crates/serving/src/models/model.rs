//! A model's text side: what callers' words become tokens with, and tokens words again.

use crate::error::LoadError;
use serde_json::json;
use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use vastrelay_text::{ChatTemplate, TextError, Tokenizer};
use vastrelay_weights::{GenerationDefaults, ModelDescription, ModelFiles, WeightsError};

/// The file of a folder that says what a model is.
pub(crate) const CONFIG: &str = "config.json";
/// Those that say how it reads and writes.
pub(crate) const TEXTS: [&str; 5] = [
    "tokenizer.json",
    "tokenizer_config.json",
    "special_tokens_map.json",
    "generation_config.json",
    "chat_template.jinja",
];
/// Most bytes of one of these.
pub(crate) const MOST_TEXT: u64 = 128 << 20;

/// What is needed of a model to read requests and write answers. It knows nothing of the names that callers use, and of the weights
/// only their shapes.
pub struct Model {
    /// The BLAKE3 hash, in hexadecimal, of everything that is read here.
    pub content: String,
    /// What the model is.
    pub description: ModelDescription,
    /// Its tokenizer.
    pub tokenizer: Tokenizer,
    /// Its chat template, when it has one.
    pub template: Option<ChatTemplate>,
    /// What its publisher says about generating.
    pub defaults: GenerationDefaults,
}

impl Model {
    /// Reads a folder or a GGUF file.
    ///
    /// # Errors
    /// When something is missing or malformed, or says what cannot be run.
    pub fn open(path: &Path) -> Result<Model, LoadError> {
        let files = ModelFiles::open(path)?;
        Model::read(&files, content_of(&files)?)
    }

    fn read(files: &ModelFiles, content: String) -> Result<Model, LoadError> {
        let description = ModelDescription::read(files)?;
        let (tokenizer, template) = texts(files)?;
        Ok(Model {
            content,
            description,
            tokenizer,
            template,
            defaults: GenerationDefaults::read(files)?,
        })
    }
}

/// The text sides in use. Those with the same content are one, loaded when it is first used and let go after its last use. Clones
/// share them.
#[derive(Clone, Default)]
pub struct Models(Arc<Mutex<HashMap<String, Weak<Model>>>>);

impl Models {
    /// Returns the text side of a folder or a GGUF file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open(&self, files: &ModelFiles) -> Result<Arc<Model>, LoadError> {
        let content = content_of(files)?;
        if let Some(model) = self.lock().get(&content).and_then(Weak::upgrade) {
            return Ok(model);
        }
        let model = Arc::new(Model::read(files, content)?);
        let mut held = self.lock();
        held.retain(|_, model| model.strong_count() > 0);
        // Somebody may have been faster.
        if let Some(model) = held.get(&model.content).and_then(Weak::upgrade) {
            return Ok(model);
        }
        held.insert(model.content.clone(), Arc::downgrade(&model));
        Ok(model)
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<String, Weak<Model>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the hash of what a text side is read from.
fn content_of(files: &ModelFiles) -> Result<String, LoadError> {
    let mut hasher = blake3::Hasher::new();
    let mut add = |name: &str, bytes: &[u8]| {
        hasher.update(name.as_bytes());
        hasher.update(&(bytes.len() as u64).to_le_bytes());
        hasher.update(bytes);
    };
    if let Some(gguf) = files.gguf() {
        let said = json!({
            "config": gguf.config()?,
            "template": gguf.template(),
            "bounds": [gguf.bound("bos"), gguf.bound("eos")],
            "ends": gguf.end_ids(),
            "tokenizer": gguf.tokenizer()?,
        });
        add("gguf", said.to_string().as_bytes());
    } else {
        for name in [CONFIG].into_iter().chain(TEXTS) {
            let file = files.path().join(name);
            if !file.is_file() {
                continue;
            }
            let bytes =
                vastrelay_files::read(&file, MOST_TEXT).map_err(|source| WeightsError::Read { path: file, source })?;
            add(name, &bytes);
        }
    }
    Ok(hasher.finalize().to_hex().to_string())
}

/// Returns the tokenizer and the chat template of a folder or a GGUF file.
///
/// # Errors
/// When one of them cannot be read.
pub fn texts(files: &ModelFiles) -> Result<(Tokenizer, Option<ChatTemplate>), LoadError> {
    let path = files.path();
    let Some(gguf) = files.gguf() else {
        return Ok((Tokenizer::open(path)?, ChatTemplate::open(path)?));
    };
    let tokenizer = Tokenizer::parse(path, gguf.tokenizer()?.to_string().as_bytes())?;
    let bound = |which: &str| gguf.bound(which).unwrap_or_default().to_owned();
    let template = gguf
        .template()
        .map(|source| ChatTemplate::new(source.to_owned(), bound("bos"), bound("eos")));
    let template = template.transpose().map_err(|error| TextError::Format {
        path: path.to_owned(),
        reason: format!("the chat template is not valid Jinja: {error}"),
    })?;
    Ok((tokenizer, template))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_who_serve_the_same_share_a_text_side_that_goes_with_the_last_of_them() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1");
        let (models, files) = (Models::default(), ModelFiles::open(&folder).unwrap());
        let (one, other) = (models.open(&files).unwrap(), models.open(&files).unwrap());
        assert!(Arc::ptr_eq(&one, &other));
        let held = Arc::downgrade(&one);
        drop(one);
        assert!(held.upgrade().is_some());
        drop(other);
        assert!(held.upgrade().is_none());
        assert_eq!(
            models.lock().values().filter(|model| model.strong_count() > 0).count(),
            0
        );
    }
}
