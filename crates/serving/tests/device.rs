//! What several models take of one device.

use serde_json::json;
use std::path::Path;
use vastrelay_serving::{DeviceMemory, Isa, Precision, Replica, ReplicaSettings};
use vastrelay_specimen::Stored;

fn settings(device: DeviceMemory) -> ReplicaSettings {
    ReplicaSettings {
        width: 4,
        step_budget: 64,
        context: Some(256),
        queue_depth: 4,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: 1,
        split: 1,
        memory_share: 1.0,
        pages: Some(64),
        device,
        weights: Precision::AsStored,
        kv: None,
    }
}

fn load(name: &str, folder: &Path, settings: &ReplicaSettings) -> Result<Replica, String> {
    Replica::load(name, folder, settings).map_err(|error| error.to_string())
}

#[test]
fn models_are_refused_when_the_device_is_full_and_told_who_fills_it() {
    let folder = tempfile::tempdir().unwrap();
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
        "max_position_embeddings": 256, "tie_word_embeddings": true
    });
    vastrelay_specimen::write(folder.path(), &config, Stored::F32).unwrap();
    let one = load("one", folder.path(), &settings(DeviceMemory::new(1 << 30)))
        .unwrap()
        .memory
        .total();

    let settings = settings(DeviceMemory::new(5 * one / 2));
    let first = load("first", folder.path(), &settings).unwrap();
    let _second = load("second", folder.path(), &settings).unwrap();
    let refused = load("third", folder.path(), &settings).err().unwrap();
    assert!(refused.contains("`first`") && refused.contains("`second`"), "{refused}");
    drop(first);
    assert!(load("third", folder.path(), &settings).is_ok());
}
