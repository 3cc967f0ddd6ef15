//! Checkpoints whose matrices are quantized: the exact values of each published scheme, and what is refused.

use safetensors::tensor::{Dtype, TensorView, serialize_to_file};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use tempfile::TempDir;
use vastrelay_weights::{Checkpoint, Kind, Matrix, WeightsError};

const SHAPE: [usize; 2] = [32, 96];

#[derive(Deserialize)]
struct Case {
    name: String,
    config: Value,
    tensors: BTreeMap<String, Part>,
    bits: Vec<u32>,
}

#[derive(Clone, Deserialize)]
struct Part {
    dtype: String,
    shape: Vec<usize>,
    bytes: String,
}

fn cases() -> Vec<Case> {
    serde_json::from_str(include_str!("reference/schemes.json")).unwrap()
}

/// Writes a folder with one matrix called `m`, stored in parts.
fn folder(config: &Value, tensors: &BTreeMap<String, Part>) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(
        folder.path().join("config.json"),
        json!({"quantization_config": config}).to_string(),
    )
    .unwrap();
    let bytes: Vec<(String, &Part, Vec<u8>)> = tensors
        .iter()
        .map(|(name, part)| {
            let byte = |at: usize| u8::from_str_radix(&part.bytes[at..at + 2], 16).unwrap();
            let bytes = (0..part.bytes.len()).step_by(2).map(byte).collect();
            (format!("m.{name}"), part, bytes)
        })
        .collect();
    let views = bytes.iter().map(|(name, part, bytes)| {
        let dtype = match part.dtype.as_str() {
            "I32" => Dtype::I32,
            "F16" => Dtype::F16,
            "F32" => Dtype::F32,
            "I8" => Dtype::I8,
            _ => Dtype::F8_E4M3,
        };
        (name, TensorView::new(dtype, part.shape.clone(), bytes).unwrap())
    });
    serialize_to_file(views, None, &folder.path().join("model.safetensors")).unwrap();
    folder
}

fn read(config: &Value, tensors: &BTreeMap<String, Part>) -> Result<Vec<f32>, WeightsError> {
    let folder = folder(config, tensors);
    let checkpoint = Checkpoint::open(folder.path())?;
    checkpoint.fits("m.weight", &SHAPE)?;
    Ok(checkpoint.tensor("m.weight", &SHAPE)?.to_f32())
}

#[test]
fn every_scheme_stands_for_exactly_the_values_of_the_reference() {
    for case in cases() {
        let values = read(&case.config, &case.tensors).unwrap_or_else(|error| panic!("{}: {error}", case.name));
        assert_eq!(values.len(), case.bits.len());
        for (at, (value, bits)) in values.iter().zip(&case.bits).enumerate() {
            let wanted = f32::from_bits(*bits);
            // Minus zero is zero.
            assert!(*value == wanted, "{} at {at}: {value} for {wanted}", case.name);
        }
    }
}

#[test]
fn a_part_that_is_missing_or_misshapen_or_of_another_type_is_named() {
    for case in cases() {
        for part in case.tensors.keys().filter(|part| *part != "g_idx") {
            let mut without = case.tensors.clone();
            without.remove(part);
            if !without.is_empty() {
                let error = read(&case.config, &without).unwrap_err().to_string();
                // Without its first part a matrix is missing as a whole.
                assert!(
                    error.contains(&format!("m.{part}")) || error.contains("m.weight"),
                    "{error}"
                );
            }
            let mut longer = case.tensors.clone();
            let entry = longer.get_mut(part).unwrap();
            entry.shape.insert(0, 2);
            entry.bytes = entry.bytes.repeat(2);
            let error = read(&case.config, &longer).unwrap_err().to_string();
            assert!(error.contains("shape"), "{}, {part}: {error}", case.name);
        }
    }
}

#[test]
fn a_group_that_there_is_no_scale_for_is_refused() {
    let mut case = cases()
        .into_iter()
        .find(|case| case.tensors.contains_key("g_idx"))
        .unwrap();
    let order = case.tensors.get_mut("g_idx").unwrap();
    order.bytes = format!("ffffffff{}", &order.bytes[8..]);
    let error = read(&case.config, &case.tensors).unwrap_err().to_string();
    assert!(error.contains("m.g_idx") && error.contains("4294967295"), "{error}");
}

#[test]
fn packed_words_without_their_scheme_are_refused() {
    let case = cases().remove(0);
    let error = read(&Value::Null, &case.tensors).unwrap_err().to_string();
    assert!(error.contains("quantization_config"), "{error}");
    let error = read(&json!({"quant_method": "other"}), &case.tensors)
        .unwrap_err()
        .to_string();
    assert!(
        error.contains("quantization_config.quant_method") && error.contains("awq"),
        "{error}"
    );
}

#[test]
fn eight_bit_floats_stay_what_they_are_and_broken_ones_are_refused() {
    let eights = |case: &Case| case.tensors["weight"].dtype.starts_with("F8");
    let mut cases = cases();
    cases.retain(|case| case.tensors.contains_key("weight") && eights(case));
    assert_eq!(cases.len(), 3);
    for case in &mut cases {
        let narrow = folder(&case.config, &case.tensors);
        let checkpoint = Checkpoint::open(narrow.path()).unwrap();
        let matrix = checkpoint.matrix("m.weight", &SHAPE).unwrap();
        let bits: Vec<u32> = matrix
            .to_f32()
            .into_iter()
            .map(|value| (value + 0.0).to_bits())
            .collect();
        let wanted: Vec<u32> = case
            .bits
            .iter()
            .map(|bits| (f32::from_bits(*bits) + 0.0).to_bits())
            .collect();
        assert!(matches!(matrix, Matrix::F8(_)) && bits == wanted, "{}", case.name);
        let weight = case.tensors.get_mut("weight").unwrap();
        weight.bytes.replace_range(..2, "7f");
        let broken = folder(&case.config, &case.tensors);
        let checkpoint = Checkpoint::open(broken.path()).unwrap();
        let error = checkpoint.matrix("m.weight", &SHAPE).err().unwrap().to_string();
        assert!(error.contains("`m.weight` is partly NaN"), "{error}");
    }
}

#[test]
fn matrices_are_read_as_the_kind_that_memory_is_planned_for() {
    for case in cases() {
        let folder = folder(&case.config, &case.tensors);
        let checkpoint = Checkpoint::open(folder.path()).unwrap();
        let read = match checkpoint.matrix("m.weight", &SHAPE).unwrap() {
            Matrix::Floats(_) => Kind::F32,
            Matrix::F8(weights) => Kind::F8 { block: weights.block },
            Matrix::Groups(groups) => Kind::Groups {
                bits: groups.bits,
                group: groups.group,
                minima: groups.minima.is_some(),
            },
        };
        assert_eq!(checkpoint.kind("m.weight"), read, "{}", case.name);
    }
}

/// A part with bytes of one value.
fn part(dtype: &str, shape: &[usize], byte: &str, size: usize) -> Part {
    Part {
        dtype: dtype.into(),
        shape: shape.to_vec(),
        bytes: byte.repeat(shape.iter().product::<usize>() * size),
    }
}

/// Returns how a matrix of 1024 inputs and eight outputs is read that shares scales in groups of a size.
fn groups_in_memory(bits: usize, group_size: i64) -> usize {
    const SHAPE: [usize; 2] = [8, 1_024];
    let groups = if group_size == -1 {
        1
    } else {
        1_024usize.div_ceil(group_size as usize)
    };
    let config = json!({"quant_method": "gptq", "bits": bits, "group_size": group_size});
    let tensors = [
        ("qweight".to_owned(), part("I32", &[1_024 * bits / 32, 8], "53", 4)),
        ("qzeros".to_owned(), part("I32", &[groups, 8 * bits / 32], "21", 4)),
        ("scales".to_owned(), part("F16", &[groups, 8], "20", 2)),
    ];
    let folder = folder(&config, &BTreeMap::from(tensors));
    let checkpoint = Checkpoint::open(folder.path()).unwrap();
    let (matrix, values) = (
        checkpoint.matrix("m.weight", &SHAPE).unwrap(),
        checkpoint.tensor("m.weight", &SHAPE).unwrap().to_f32(),
    );
    assert_eq!(matrix.to_f32(), values);
    match (matrix, checkpoint.kind("m.weight")) {
        (Matrix::Groups(read), Kind::Groups { group, .. }) if read.group == group => group,
        (_, kind) => panic!("it is not read as {kind}"),
    }
}

#[test]
fn no_more_than_128_activations_are_rounded_with_one_scale() {
    for bits in [4, 8] {
        assert_eq!(groups_in_memory(bits, -1), 128);
        assert_eq!(groups_in_memory(bits, 1_024), 128);
        assert_eq!(groups_in_memory(bits, 512), 128);
        assert_eq!(groups_in_memory(bits, 192), 64);
        assert_eq!(groups_in_memory(bits, 64), 64);
    }
}

#[test]
fn scales_of_another_shape_than_their_blocks_are_refused() {
    let case = cases()
        .into_iter()
        .find(|case| case.name.contains("each block"))
        .unwrap();
    for shape in [
        vec![7],
        vec![3, 1],
        vec![2],
        vec![6],
        vec![3, 2],
        vec![2, 3, 1],
        vec![2, 4],
    ] {
        let mut tensors = case.tensors.clone();
        tensors.insert("weight_scale_inv".into(), part("F32", &shape, "3f", 4));
        let error = read(&case.config, &tensors).unwrap_err().to_string();
        assert!(error.contains("m.weight_scale_inv"), "{shape:?}: {error}");
    }
}
