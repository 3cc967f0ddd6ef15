//! What several models take of one device.

mod support;

use serde_json::json;
use std::path::Path;
use std::time::{Duration, Instant};
use support::settings;
use vastrelay_serving::build::{Conversion, convert};
use vastrelay_serving::{CoreWish, Cores, Device, KvPrecision, Model, Precision, Precisions, Replica, ReplicaSettings};
use vastrelay_specimen::Stored;

fn load(name: &str, folder: &Path, settings: &ReplicaSettings) -> Result<Replica, String> {
    let model = Model::open(folder).map_err(|error| error.to_string())?;
    Replica::load(name, &model, folder, settings).map_err(|error| error.to_string())
}

/// Returns a folder with a small model.
fn specimen() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
        "max_position_embeddings": 256, "tie_word_embeddings": true
    });
    vastrelay_specimen::write(folder.path(), &config, Stored::F32).unwrap();
    folder
}

#[test]
fn endpoints_are_refused_when_the_device_is_full_and_told_who_fills_it() {
    let folder = specimen();
    let one = load(
        "one",
        folder.path(),
        &settings(Device::cpu(1 << 30, Cores::part(1), || usize::MAX)),
    )
    .unwrap()
    .memory
    .total();

    let settings = settings(Device::cpu(5 * one / 2, Cores::part(1), || usize::MAX));
    let first = load("first", folder.path(), &settings).unwrap();
    let _second = load("second", folder.path(), &settings).unwrap();
    let refused = load("third", folder.path(), &settings).err().unwrap();
    assert!(refused.contains("`first`") && refused.contains("`second`"), "{refused}");
    drop(first);
    assert!(load("third", folder.path(), &settings).is_ok());
}

#[test]
fn what_is_not_available_now_is_refused_with_both_figures() {
    let folder = specimen();
    let settings = settings(Device::cpu(1 << 30, Cores::part(1), || 3 << 20));
    let refused = load("one", folder.path(), &settings).err().unwrap();
    assert!(
        refused.contains("does not fit now") && refused.contains("3.0 MiB") && refused.contains("available"),
        "{refused}"
    );
}

#[test]
fn all_that_is_reserved_is_in_memory_after_a_while() {
    let folder = specimen();
    let replica = load(
        "one",
        folder.path(),
        &settings(Device::cpu(1 << 30, Cores::part(1), || usize::MAX)),
    )
    .unwrap();
    let begun = Instant::now();
    while replica.resident() < replica.memory.total() {
        assert!(
            begun.elapsed() < Duration::from_secs(60),
            "{} of {}",
            replica.resident(),
            replica.memory.total()
        );
        std::thread::yield_now();
    }
}

#[test]
fn what_is_held_for_the_weights_of_a_build_is_what_its_shards_take() {
    let (model, folder) = (support::demo(), tempfile::tempdir().unwrap());
    for (name, weights) in [
        ("as-stored", Precision::AsStored),
        ("int4", Precision::of("int4", Some(32)).unwrap()),
    ] {
        let build = folder.path().join(name);
        let precisions = Precisions {
            weights,
            kv: KvPrecision::default(),
        };
        let conversion = Conversion {
            source: model.clone(),
            out: build.clone(),
            precisions,
        };
        convert(&conversion).unwrap();
        for split in [1, 2] {
            let cores = CoreWish::Free {
                least: split,
                most: split,
            };
            let settings = ReplicaSettings {
                split,
                cores,
                ..settings(Device::cpu(1 << 30, Cores::part(4), || usize::MAX))
            };
            let replica = load("one", &build, &settings).unwrap();
            let (held, taken) = (replica.plan.memory.weights, replica.memory.weights);
            assert!(
                held >= taken && held <= taken + taken / 10,
                "{name}, {split}: {held} for {taken}"
            );
        }
    }
}
