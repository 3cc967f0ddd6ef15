//! Small models with generated weights, for tests and benchmarks.
//!
//! The weights follow from the names of the tensors by a recipe that `demo/reference/forward.py` shares, so that both sides
//! have the same model without a file that holds it.
#![warn(missing_docs)]

pub mod gguf;
pub mod quantized;

use half::bf16;
use safetensors::tensor::{Dtype, TensorView, serialize_to_file};
use serde_json::{Map, Value, json};
use std::io;
use std::path::Path;
use vastrelay_weights::ModelDescription;

/// Precision that a specimen's weights are stored in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stored {
    /// 32-bit floats.
    F32,
    /// Brain floats, cut off rather than rounded.
    Bf16,
}

/// Writes a model into a folder: config, weights in one file, and a tokenizer whose first 256 tokens are the bytes.
///
/// # Errors
/// When a file cannot be written, or the config is not one that can be run.
pub fn write(folder: &Path, config: &Value, stored: Stored) -> io::Result<()> {
    std::fs::write(folder.join("config.json"), config.to_string())?;
    let description = ModelDescription::open(folder).map_err(io::Error::other)?;
    std::fs::write(
        folder.join("tokenizer.json"),
        tokenizer(description.vocabulary).to_string(),
    )?;
    let tensors: Vec<(String, Vec<usize>, Vec<u8>)> = description
        .tensors()
        .into_iter()
        .map(|(name, shape)| {
            let values = values(&name, &shape);
            let bytes = match stored {
                Stored::F32 => values.iter().flat_map(|value| value.to_le_bytes()).collect(),
                Stored::Bf16 => values.iter().flat_map(|value| cut(*value).to_le_bytes()).collect(),
            };
            (name, shape, bytes)
        })
        .collect();
    let dtype = if stored == Stored::F32 { Dtype::F32 } else { Dtype::BF16 };
    let views = tensors
        .iter()
        .map(|(name, shape, bytes)| {
            Ok((
                name,
                TensorView::new(dtype, shape.clone(), bytes).map_err(io::Error::other)?,
            ))
        })
        .collect::<io::Result<Vec<_>>>()?;
    serialize_to_file(views, None, &folder.join("model.safetensors")).map_err(io::Error::other)
}

fn cut(value: f32) -> bf16 {
    bf16::from_bits((value.to_bits() >> 16) as u16)
}

/// Returns the values of a tensor: splitmix64 over the element's number ("Fast Splittable Pseudorandom Number Generators",
/// Steele, Lea and Flood, 2014), started by the FNV-1a hash of the name.
pub fn values(name: &str, shape: &[usize]) -> Vec<f32> {
    let start = name.bytes().fold(0xCBF2_9CE4_8422_2325u64, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01B3)
    });
    let scaled: Box<dyn Fn(f32) -> f32> = if name.ends_with("norm.weight") {
        Box::new(|unit| 1.0 + unit * 0.125)
    } else if name.ends_with(".bias") {
        Box::new(|unit| unit * 0.5)
    } else if name.starts_with("model.embed_tokens") {
        Box::new(|unit| unit * 0.25)
    } else {
        let scale = (3.0 / shape[1] as f64).sqrt() as f32;
        Box::new(move |unit| unit * scale)
    };
    (1..=shape.iter().product::<usize>() as u64)
        .map(|number| {
            let mut z = start.wrapping_add(number.wrapping_mul(0x9E37_79B9_7F4A_7C15));
            z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
            z ^= z >> 31;
            scaled((z >> 40) as f32 / (1 << 23) as f32 - 1.0)
        })
        .collect()
}

/// Returns a byte-level tokenizer without merges; tokens beyond the bytes have names and are never encoded to.
fn tokenizer(vocabulary: usize) -> Value {
    let mut next = 0x100u32;
    let mut names: Vec<String> = (0..=255u8)
        .map(|byte| match byte {
            b'!'..=b'~' | 0xA1..=0xAC | 0xAE..=0xFF => char::from(byte).to_string(),
            _ => {
                next += 1;
                char::from_u32(next - 1).map(String::from).unwrap_or_default()
            }
        })
        .collect();
    names.extend((names.len()..vocabulary).map(|n| format!("word{n}")));
    let vocab: Map<String, Value> = names
        .into_iter()
        .take(vocabulary)
        .enumerate()
        .map(|(id, name)| (name, json!(id)))
        .collect();
    json!({
        "version": "1.0", "truncation": null, "padding": null, "added_tokens": [], "normalizer": null,
        "pre_tokenizer": {"type": "ByteLevel", "add_prefix_space": false, "trim_offsets": true, "use_regex": true},
        "post_processor": null,
        "decoder": {"type": "ByteLevel", "add_prefix_space": true, "trim_offsets": true, "use_regex": true},
        "model": {"type": "BPE", "dropout": null, "unk_token": null, "continuing_subword_prefix": null,
                  "end_of_word_suffix": null, "fuse_unk": false, "vocab": vocab, "merges": []},
    })
}
