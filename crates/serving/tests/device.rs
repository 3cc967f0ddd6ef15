//! What several models take of one device.

mod support;

use serde_json::json;
use std::path::Path;
use std::time::{Duration, Instant};
use support::settings;
use vastrelay_fleet::decider::{Need, Taken};
use vastrelay_fleet::ledger::Room;
use vastrelay_serving::models::build::{Conversion, convert};
use vastrelay_serving::{
    CoreRequest, Cores, Device, KvPrecision, Model, Precision, Precisions, Replica, ReplicaSettings, Sizing,
};
use vastrelay_specimen::Stored;
use vastrelay_weights::ModelFiles;

fn load(folder: &Path, settings: &ReplicaSettings) -> Result<Replica, String> {
    let model = Model::open(folder).map_err(|error| error.to_string())?;
    Replica::load(&model, folder, settings).map_err(|error| error.to_string())
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
    let model = Model::open(folder.path()).unwrap();
    let settings = ReplicaSettings {
        pages: None,
        typical: None,
        ..settings(Device::cpu(1 << 30, Cores::part(1), || usize::MAX))
    };
    let sizing = Sizing::new(&model, &ModelFiles::open(folder.path()).unwrap(), &settings, None).unwrap();
    let room = |free: usize| Room {
        places: vec![0],
        free,
        there: 0,
        holders: vec![("first".into(), 5 << 20), ("second".into(), 7 << 20)],
    };
    let refused = sizing.take(&room(1 << 20), 1).unwrap_err();
    assert!(refused.is_for_want_of_room());
    assert!(
        refused.why.contains("`first` 5.0 MiB") && refused.why.contains("`second`"),
        "{}",
        refused.why
    );
    // A replica has the plan of its memory again in the place that it has taken, also where its worker found less room.
    let all = sizing.take(&room(1 << 30), 1).unwrap();
    let less = sizing.take(&room(all.own - 1), 1).unwrap();
    assert!(less.own < all.own);
    for (take, room) in [(all, 1 << 30), (less, all.own - 1), (less, 1 << 30)] {
        let taken = Taken {
            device: "cpu".into(),
            places: vec![0],
            take,
            room,
            threads: 1,
            ..Taken::default()
        };
        assert_eq!(sizing.place(taken, true).unwrap().memory.total(), take.own);
    }
}

#[test]
fn what_is_not_available_now_is_refused_with_both_figures() {
    let folder = specimen();
    let settings = settings(Device::cpu(1 << 30, Cores::part(1), || 3 << 20));
    let refused = load(folder.path(), &settings).err().unwrap();
    assert!(
        refused.contains("does not fit now") && refused.contains("3.0 MiB") && refused.contains("available"),
        "{refused}"
    );
}

#[test]
fn all_that_is_reserved_is_in_memory_after_a_while() {
    let folder = specimen();
    let replica = load(
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
            let cores = CoreRequest::Free {
                least: split,
                most: split,
            };
            let settings = ReplicaSettings {
                split,
                cores,
                ..settings(Device::cpu(1 << 30, Cores::part(4), || usize::MAX))
            };
            let replica = load(&build, &settings).unwrap();
            let (held, taken) = (replica.plan.memory.weights, replica.memory.weights);
            assert!(
                held >= taken && held <= taken + taken / 10,
                "{name}, {split}: {held} for {taken}"
            );
        }
    }
}
