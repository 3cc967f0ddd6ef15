//! GGUF files for tests: written from parts, or from a folder.

use serde_json::Value;
use std::io;
use std::path::Path;
use vastrelay_weights::{Checkpoint, ModelDescription};

/// A value of the settings.
pub enum Setting {
    /// A whole number of 32 bits.
    Whole(u32),
    /// A number of 32 bits.
    Number(f32),
    /// True or false.
    Flag(bool),
    /// A text.
    Text(String),
    /// A list of texts.
    Texts(Vec<String>),
    /// A list of whole numbers.
    Wholes(Vec<i32>),
    /// A list of numbers.
    Numbers(Vec<f32>),
}

/// A tensor, rows first, stored as a type of the format.
pub struct Stored {
    /// Its name.
    pub name: String,
    /// Its shape.
    pub shape: Vec<usize>,
    /// The type's number.
    pub kind: u32,
    /// Its blocks.
    pub bytes: Vec<u8>,
}

/// Returns the bytes of a file of version 3.
pub fn file(settings: &[(&str, Setting)], tensors: &[Stored]) -> Vec<u8> {
    let mut out = b"GGUF".to_vec();
    out.extend(3u32.to_le_bytes());
    out.extend((tensors.len() as u64).to_le_bytes());
    out.extend((settings.len() as u64).to_le_bytes());
    for (name, value) in settings {
        text(&mut out, name);
        setting(&mut out, value);
    }
    let mut offset = 0;
    for tensor in tensors {
        text(&mut out, &tensor.name);
        out.extend((tensor.shape.len() as u32).to_le_bytes());
        tensor
            .shape
            .iter()
            .rev()
            .for_each(|size| out.extend((*size as u64).to_le_bytes()));
        out.extend(tensor.kind.to_le_bytes());
        out.extend((offset as u64).to_le_bytes());
        offset = (offset + tensor.bytes.len()).next_multiple_of(32);
    }
    for tensor in tensors {
        out.resize(out.len().next_multiple_of(32), 0);
        out.extend(&tensor.bytes);
    }
    out
}

fn text(out: &mut Vec<u8>, text: &str) {
    out.extend((text.len() as u64).to_le_bytes());
    out.extend(text.as_bytes());
}

fn setting(out: &mut Vec<u8>, value: &Setting) {
    let kind = |out: &mut Vec<u8>, kind: u32| out.extend(kind.to_le_bytes());
    let list = |out: &mut Vec<u8>, kind: u32, count: usize| {
        out.extend(9u32.to_le_bytes());
        out.extend(kind.to_le_bytes());
        out.extend((count as u64).to_le_bytes());
    };
    match value {
        Setting::Whole(number) => {
            kind(out, 4);
            out.extend(number.to_le_bytes());
        }
        Setting::Number(number) => {
            kind(out, 6);
            out.extend(number.to_le_bytes());
        }
        Setting::Flag(flag) => {
            kind(out, 7);
            out.push(u8::from(*flag));
        }
        Setting::Text(words) => {
            kind(out, 8);
            text(out, words);
        }
        Setting::Texts(texts) => {
            list(out, 8, texts.len());
            texts.iter().for_each(|words| text(out, words));
        }
        Setting::Wholes(numbers) => {
            list(out, 5, numbers.len());
            numbers.iter().for_each(|number| out.extend(number.to_le_bytes()));
        }
        Setting::Numbers(numbers) => {
            list(out, 6, numbers.len());
            numbers.iter().for_each(|number| out.extend(number.to_le_bytes()));
        }
    }
}

/// Precision that weights are written in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Precision {
    /// 32-bit floats: nothing is lost.
    F32,
    /// 8 bits with a scale for each 32 weights, rounded to the nearest.
    Q8_0,
}

/// Returns the file of a folder that holds a model of the Llama layout with a byte-level tokenizer.
///
/// # Errors
/// When the folder cannot be read.
pub fn of_folder(folder: &Path, precision: Precision) -> io::Result<Vec<u8>> {
    let model = ModelDescription::open(folder).map_err(io::Error::other)?;
    let checkpoint = Checkpoint::open(folder).map_err(io::Error::other)?;
    let json = |name: &str| -> io::Result<Value> { Ok(serde_json::from_slice(&std::fs::read(folder.join(name))?)?) };
    let tokenizer = json("tokenizer.json")?;
    let whole = |number: usize| Setting::Whole(number as u32);
    let mut settings = vec![
        ("general.architecture", Setting::Text("llama".into())),
        ("llama.block_count", whole(model.layers)),
        ("llama.context_length", whole(model.context)),
        ("llama.embedding_length", whole(model.width)),
        ("llama.feed_forward_length", whole(model.mlp_width)),
        ("llama.attention.head_count", whole(model.heads)),
        ("llama.attention.head_count_kv", whole(model.kv_heads)),
        ("llama.attention.key_length", whole(model.head_dim)),
        ("llama.rope.freq_base", Setting::Number(model.rotary.theta as f32)),
        (
            "llama.attention.layer_norm_rms_epsilon",
            Setting::Number(model.norm_epsilon),
        ),
        ("tokenizer.ggml.model", Setting::Text("gpt2".into())),
        ("tokenizer.ggml.pre", Setting::Text("smollm".into())),
    ];
    settings.extend(vocabulary(&tokenizer));
    let texts = json("tokenizer_config.json").unwrap_or_default();
    if let Some(words) = texts["chat_template"].as_str() {
        settings.push(("tokenizer.chat_template", Setting::Text(words.to_owned())));
    }
    settings.push(("tokenizer.ggml.add_bos_token", Setting::Flag(false)));
    if let Some(id) = texts["bos_token"]
        .as_str()
        .and_then(|start| tokenizer["model"]["vocab"][start].as_u64())
    {
        settings.push(("tokenizer.ggml.bos_token_id", Setting::Whole(id as u32)));
    }
    let generation = json("generation_config.json").unwrap_or_default();
    if let Some(id) = generation["eos_token_id"]
        .as_u64()
        .or(generation["eos_token_id"][0].as_u64())
    {
        settings.push(("tokenizer.ggml.eos_token_id", Setting::Whole(id as u32)));
    }
    let mut tensors = Vec::new();
    for (name, shape) in model.tensors() {
        let values = checkpoint.tensor(&name, &shape).map_err(io::Error::other)?.to_f32();
        let values = match name.rsplit('.').nth(1) {
            Some("q_proj") => paired(values, shape[0], model.heads),
            Some("k_proj") => paired(values, shape[0], model.kv_heads),
            _ => values,
        };
        let small = shape.len() == 2 && precision == Precision::Q8_0 && shape[1].is_multiple_of(32);
        let (kind, bytes) = if small {
            (8, eight_bits(&values))
        } else {
            (0, floats(&values))
        };
        tensors.push(Stored {
            name: renamed(&name),
            shape,
            kind,
            bytes,
        });
    }
    Ok(file(&settings, &tensors))
}

fn vocabulary(tokenizer: &Value) -> Vec<(&'static str, Setting)> {
    let vocab = tokenizer["model"]["vocab"].as_object().cloned().unwrap_or_default();
    let mut tokens = vec![String::new(); vocab.len()];
    for (token, id) in vocab {
        tokens[id.as_u64().unwrap_or(0) as usize] = token;
    }
    let mut kinds = vec![1; tokens.len()];
    for added in tokenizer["added_tokens"].as_array().into_iter().flatten() {
        kinds[added["id"].as_u64().unwrap_or(0) as usize] = 3;
    }
    let merge = |merge: &Value| match merge.as_str() {
        Some(words) => words.to_owned(),
        None => format!(
            "{} {}",
            merge[0].as_str().unwrap_or(""),
            merge[1].as_str().unwrap_or("")
        ),
    };
    let merges = tokenizer["model"]["merges"].as_array().into_iter().flatten().map(merge);
    vec![
        ("tokenizer.ggml.merges", Setting::Texts(merges.collect())),
        ("tokenizer.ggml.tokens", Setting::Texts(tokens)),
        ("tokenizer.ggml.token_type", Setting::Wholes(kinds)),
    ]
}

/// Lays the rows of each head in turns: first of the one half, first of the other, second of the one.
fn paired(values: Vec<f32>, rows: usize, heads: usize) -> Vec<f32> {
    let (columns, size) = (values.len() / rows, rows / heads);
    let mut laid = Vec::with_capacity(values.len());
    for row in 0..rows {
        let (head, place) = (row / size, row % size);
        let from = (head * size + place % 2 * (size / 2) + place / 2) * columns;
        laid.extend_from_slice(&values[from..from + columns]);
    }
    laid
}

fn floats(values: &[f32]) -> Vec<u8> {
    values.iter().flat_map(|value| value.to_le_bytes()).collect()
}

fn eight_bits(values: &[f32]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for block in values.chunks_exact(32) {
        let most = block.iter().fold(0f32, |most, value| most.max(value.abs()));
        let scale = half::f16::from_f32(most / 127.0);
        bytes.extend(scale.to_le_bytes());
        let inverse = if scale.to_f32() > 0.0 {
            1.0 / scale.to_f32()
        } else {
            0.0
        };
        bytes.extend(
            block
                .iter()
                .map(|value| (value * inverse).round().clamp(-127.0, 127.0) as i8 as u8),
        );
    }
    bytes
}

fn renamed(name: &str) -> String {
    let pairs = [
        ("model.embed_tokens", "token_embd"),
        ("model.norm", "output_norm"),
        ("lm_head", "output"),
        ("model.layers", "blk"),
        ("input_layernorm", "attn_norm"),
        ("post_attention_layernorm", "ffn_norm"),
        ("self_attn.q_proj", "attn_q"),
        ("self_attn.k_proj", "attn_k"),
        ("self_attn.v_proj", "attn_v"),
        ("self_attn.o_proj", "attn_output"),
        ("mlp.gate_proj", "ffn_gate"),
        ("mlp.up_proj", "ffn_up"),
        ("mlp.down_proj", "ffn_down"),
    ];
    pairs
        .iter()
        .fold(name.to_owned(), |name, (from, to)| name.replace(from, to))
}
