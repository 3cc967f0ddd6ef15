//! Text sides are shared by content.

use serde_json::json;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_serving::Models;
use vastrelay_specimen::Stored;
use vastrelay_weights::ModelFiles;

fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1")
}

/// Copies the demo model's texts into a folder; its weights are not looked at.
fn copy(folder: &Path) {
    for entry in std::fs::read_dir(demo()).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|end| end == "json" || end == "jinja") {
            std::fs::copy(&path, folder.join(path.file_name().unwrap())).unwrap();
        }
    }
}

fn files(path: &Path) -> ModelFiles {
    ModelFiles::open(path).unwrap()
}

#[test]
fn the_same_texts_are_one_wherever_they_lie_and_gone_after_their_last_use() {
    let (models, folder) = (Models::default(), tempfile::tempdir().unwrap());
    copy(folder.path());
    let first = models.open(&files(&demo())).unwrap();
    let second = models.open(&files(folder.path())).unwrap();
    assert!(Arc::ptr_eq(&first, &second));
    let content = first.content.clone();
    let watched = Arc::downgrade(&first);
    drop((first, second));
    assert!(watched.upgrade().is_none());
    assert_eq!(models.open(&files(&demo())).unwrap().content, content);
}

#[test]
fn another_template_or_default_is_another_model() {
    let (models, folder) = (Models::default(), tempfile::tempdir().unwrap());
    copy(folder.path());
    let first = models.open(&files(folder.path())).unwrap();
    let defaults = folder.path().join("generation_config.json");
    std::fs::write(&defaults, json!({"eos_token_id": 1, "temperature": 0.25}).to_string()).unwrap();
    let second = models.open(&files(folder.path())).unwrap();
    assert!(!Arc::ptr_eq(&first, &second));
    assert_ne!(first.content, second.content);
    assert_eq!(second.defaults.temperature, Some(0.25));
}

#[test]
fn what_has_no_tokenizer_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
        "max_position_embeddings": 256, "tie_word_embeddings": true
    });
    vastrelay_specimen::write(folder.path(), &config, Stored::F32).unwrap();
    std::fs::remove_file(folder.path().join("tokenizer.json")).unwrap();
    let error = Models::default().open(&files(folder.path())).err().unwrap().to_string();
    assert!(error.contains("tokenizer.json"), "{error}");
}
