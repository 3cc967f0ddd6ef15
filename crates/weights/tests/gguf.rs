//! GGUF files: every block type exactly, headers that are not to be believed, and models that are the same in both formats.

use proptest::prelude::*;
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::Path;
use vastrelay_specimen::gguf::{Precision, Setting, Stored, file, of_folder};
use vastrelay_weights::blocks::BlockType;
use vastrelay_weights::{Checkpoint, GenerationDefaults, Gguf, ModelDescription, ModelFiles};

#[derive(Deserialize)]
struct Case {
    #[serde(rename = "type")]
    name: String,
    bytes: String,
    bits: Vec<u32>,
}

#[test]
fn every_block_type_stands_for_exactly_the_values_of_the_reference() {
    let cases: Vec<Case> = serde_json::from_str(include_str!("reference/blocks.json")).unwrap();
    assert_eq!(cases.len(), BlockType::all().count());
    for case in cases {
        let block = BlockType::all().find(|block| block.name() == case.name).unwrap();
        let byte = |at: usize| u8::from_str_radix(&case.bytes[at..at + 2], 16).unwrap();
        let bytes: Vec<u8> = (0..case.bytes.len()).step_by(2).map(byte).collect();
        let bits: Vec<u32> = block.values(&bytes).into_iter().map(f32::to_bits).collect();
        // Minus zero is zero.
        let same = bits.iter().zip(&case.bits).all(|(a, b)| a == b || (a | b) << 1 == 0);
        assert!(bits.len() == case.bits.len() && same, "{}", case.name);
        assert_eq!(bits.len(), 3 * block.weights(), "{}", case.name);
    }
}

fn demo() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1")
}

fn written(bytes: &[u8]) -> (tempfile::TempDir, std::path::PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.gguf");
    std::fs::write(&path, bytes).unwrap();
    (folder, path)
}

#[test]
fn a_model_is_the_same_in_both_formats() {
    let (_folder, path) = written(&of_folder(&demo(), Precision::F32).unwrap());
    let (folder_model, file_model) = (
        ModelDescription::open(&demo()).unwrap(),
        ModelDescription::open(&path).unwrap(),
    );
    let mut same = file_model.clone();
    // Numbers went through 32 bits.
    same.rotary.theta = folder_model.rotary.theta;
    assert_eq!(same, folder_model);
    let (folder, file) = (Checkpoint::open(&demo()).unwrap(), Checkpoint::open(&path).unwrap());
    file_model.check(&file).unwrap();
    for (name, shape) in file_model.tensors() {
        let values = |checkpoint: &Checkpoint| checkpoint.tensor(&name, &shape).unwrap().to_f32();
        assert!(values(&file) == values(&folder), "{name}");
    }
    let end = |path: &Path| {
        GenerationDefaults::read(&ModelFiles::open(path).unwrap())
            .unwrap()
            .end_ids[0]
    };
    assert_eq!(end(&path), end(&demo()));
}

/// Writes a model of the reference, with some fields changed, as a folder and as a file.
fn both_formats(name: &str, changes: &Value) -> (tempfile::TempDir, std::path::PathBuf) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../demo/reference/fixtures/{name}.json"));
    let fixture: Value = serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap();
    let mut config = fixture["config"].clone();
    for (field, value) in changes.as_object().unwrap() {
        config[field] = value.clone();
    }
    let folder = tempfile::tempdir().unwrap();
    vastrelay_specimen::write(folder.path(), &config, vastrelay_specimen::Stored::F32).unwrap();
    let path = folder.path().join("model.gguf");
    std::fs::write(&path, of_folder(folder.path(), Precision::F32).unwrap()).unwrap();
    (folder, path)
}

#[test]
fn every_family_is_the_same_in_both_formats() {
    let as_they_are = json!({});
    for (name, changes) in [
        ("wide", &json!({"attention_bias": false, "mlp_bias": false})),
        ("biased", &as_they_are),
        ("normed", &as_they_are),
        // What files do not say is the usual.
        ("capped", &json!({"query_pre_attn_scalar": 24})),
        (
            "patterned",
            &json!({"query_pre_attn_scalar": 24, "sliding_window_pattern": 6}),
        ),
        ("fused", &as_they_are),
        ("multiplied", &as_they_are),
        ("experts", &as_they_are),
        ("sparse", &json!({"norm_topk_prob": true, "mlp_only_layers": []})),
    ] {
        let (folder, path) = both_formats(name, changes);
        let (folder_model, file_model) = (
            ModelDescription::open(folder.path()).unwrap(),
            ModelDescription::open(&path).unwrap_or_else(|error| panic!("{name}: {error}")),
        );
        let (folder, file) = (
            Checkpoint::open(folder.path()).unwrap(),
            Checkpoint::open(&path).unwrap(),
        );
        file_model
            .check(&file)
            .unwrap_or_else(|error| panic!("{name}: {error}"));
        for (tensor, shape) in folder_model.tensors() {
            let mut wanted = folder.tensor(&tensor, &shape).unwrap().to_f32();
            if folder_model.norms_from_one && tensor.ends_with("norm.weight") {
                wanted.iter_mut().for_each(|value| *value += 1.0);
            }
            assert!(
                file.tensor(&tensor, &shape).unwrap().to_f32() == wanted,
                "{name}: {tensor}"
            );
        }
        let near = |(one, other): (&f64, &f64)| (one / other - 1.0).abs() < 1e-6;
        for context in [64, 256] {
            let (one, other) = (
                folder_model.rotary.frequencies(folder_model.head_dim, context),
                file_model.rotary.frequencies(file_model.head_dim, context),
            );
            assert!(
                one.0.iter().zip(&other.0).all(near) && near((&one.1, &other.1)),
                "{name}"
            );
        }
        // Numbers went through 32 bits, and norms and frequencies are the same in other words.
        let mut same = file_model;
        same.rotary = folder_model.rotary.clone();
        same.norms_from_one = folder_model.norms_from_one;
        let close = |one: &mut f32, other: f32| {
            assert!((*one / other - 1.0).abs() < 1e-6, "{name}");
            *one = other;
        };
        close(&mut same.logit_scale, folder_model.logit_scale);
        close(&mut same.score_scale, folder_model.score_scale);
        assert_eq!(same, folder_model, "{name}");
    }
}

#[test]
fn eight_bits_are_near_and_told_as_what_they_are() {
    let (_folder, path) = written(&of_folder(&demo(), Precision::Q8_0).unwrap());
    let (whole, small) = (Checkpoint::open(&demo()).unwrap(), Checkpoint::open(&path).unwrap());
    assert!(
        small.types()["Q8_0"].0 > 10 && small.types()["F32"].0 > 3,
        "{:?}",
        small.types()
    );
    let model = ModelDescription::open(&path).unwrap();
    for (name, shape) in model.tensors() {
        let values = |checkpoint: &Checkpoint| checkpoint.tensor(&name, &shape).unwrap().to_f32();
        let (a, b) = (values(&whole), values(&small));
        let square = |values: &mut dyn Iterator<Item = f32>| values.map(|value| f64::from(value).powi(2)).sum::<f64>();
        let error = square(&mut a.iter().zip(&b).map(|(a, b)| a - b)) / square(&mut a.iter().copied());
        assert!(error.sqrt() < 0.01, "{name}: {error}");
    }
}

/// A small file that is right, to be made wrong.
fn small() -> Vec<u8> {
    let tensor = |name: &str, kind, bytes: usize| Stored {
        name: name.into(),
        shape: vec![2, 32],
        kind,
        bytes: vec![1; bytes],
    };
    let settings = [
        ("general.architecture", Setting::Text("llama".into())),
        ("a.list", Setting::Numbers(vec![1.0, 2.0])),
        ("a.flag", Setting::Flag(true)),
    ];
    file(&settings, &[tensor("one", 0, 256), tensor("two", 8, 68)])
}

fn refusal(bytes: &[u8]) -> String {
    Gguf::parse(Path::new("model.gguf"), bytes.to_vec())
        .unwrap_err()
        .to_string()
}

#[test]
fn headers_that_cannot_be_are_refused_with_the_place() {
    let good = small();
    Gguf::parse(Path::new("model.gguf"), good.clone()).unwrap();
    let with = |at: usize, bytes: &[u8]| {
        let mut wrong = good.clone();
        wrong[at..at + bytes.len()].copy_from_slice(bytes);
        refusal(&wrong)
    };
    let find = |text: &str| {
        good.windows(text.len())
            .position(|window| window == text.as_bytes())
            .unwrap()
    };
    // After a tensor's name: four bytes of how many dimensions, two of eight bytes, the type, the offset.
    let (one, two) = (find("one") + 3, find("two") + 3);
    let most = u64::MAX.to_le_bytes();
    for (error, words) in [
        (with(0, b"GGML"), "does not begin with the letters GGUF"),
        (with(4, &1u32.to_le_bytes()), "of version 1; versions 2 and 3"),
        (with(4, &3u32.to_be_bytes()), "big-endian"),
        (with(8, &most), "claims to hold 18446744073709551615 things"),
        (with(16, &most), "claims to hold 18446744073709551615 things"),
        (with(24, &most), "claims to hold 18446744073709551615 things"),
        (with(one, &9u32.to_le_bytes()), "`one` has 9 dimensions"),
        (with(one + 4, &0u64.to_le_bytes()), "`one` has an impossible dimension"),
        (with(one + 12, &most), "`one` reaches beyond the file's end"),
        (with(one + 20, &4u32.to_le_bytes()), "`one` is stored as type 4"),
        (
            with(one + 24, &(1u64 << 40).to_le_bytes()),
            "`one` reaches beyond the file's end",
        ),
        (with(two + 24, &64u64.to_le_bytes()), "`one` and `two` overlap"),
        (
            with(two + 24, &260u64.to_le_bytes()),
            "does not begin at a multiple of 32",
        ),
        (with(two - 3, b"one"), "`one` is there twice"),
        (refusal(&good[..good.len() - 1]), "reaches beyond the file's end"),
        (
            refusal(&good[..20]),
            "claims to hold 2 things of 24 bytes and has 4 left",
        ),
        (refusal(b""), "at byte 0: 4 bytes are needed and 0 are left"),
    ] {
        assert!(error.contains(words), "{error} should say: {words}");
    }
}

/// A header whose only setting is a list, up to the type of its values.
fn begun_list() -> Vec<u8> {
    let mut bytes = b"GGUF".to_vec();
    bytes.extend(3u32.to_le_bytes());
    bytes.extend(0u64.to_le_bytes());
    bytes.extend(1u64.to_le_bytes());
    bytes.extend(1u64.to_le_bytes());
    bytes.push(b'a');
    bytes.extend(9u32.to_le_bytes());
    bytes
}

#[test]
fn lists_in_lists_in_lists_end_somewhere() {
    let mut deep = begun_list();
    for _ in 0..100_000 {
        deep.extend(9u32.to_le_bytes());
        deep.extend(1u64.to_le_bytes());
    }
    assert!(refusal(&deep).contains("nested more than 4 deep"));
}

/// A file with one setting, a list of bytes.
fn with_list_of_bytes(count: usize) -> Vec<u8> {
    let mut bytes = begun_list();
    bytes.extend(0u32.to_le_bytes());
    bytes.extend((count as u64).to_le_bytes());
    bytes.resize(bytes.len() + count, 7);
    bytes
}

#[test]
fn lists_that_take_far_more_memory_than_their_file_are_refused() {
    assert!(Gguf::parse(Path::new("model.gguf"), with_list_of_bytes(1_000)).is_ok());
    let error = refusal(&with_list_of_bytes(9 << 20));
    assert!(error.contains("more than 8388608 values"), "{error}");
}

proptest! {
    #[test]
    fn no_bytes_make_the_reader_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = Gguf::parse(Path::new("model.gguf"), bytes);
    }

    #[test]
    fn no_change_of_a_good_file_makes_the_reader_panic(changes in proptest::collection::vec((0usize..700, any::<u8>()), 1..12)) {
        let mut bytes = small();
        let length = bytes.len();
        changes.into_iter().for_each(|(at, byte)| bytes[at % length] = byte);
        if let Ok(gguf) = Gguf::parse(Path::new("model.gguf"), bytes) {
            let _ = (gguf.config(), gguf.tokenizer(), gguf.end_ids(), gguf.bound("bos"));
        }
    }
}
