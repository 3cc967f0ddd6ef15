//! GGUF files for tests: written from parts, or from a folder.

use serde_json::Value;
use std::io;
use std::path::Path;
use vastrelay_weights::rope::{RopeScaling, Rotary};
use vastrelay_weights::{Checkpoint, ModelDescription};

/// A value of the settings.
#[derive(Clone)]
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
    /// 4 bits with a scale and a minimum for each 32 weights, rounded to the nearest; embeddings and head as [`Precision::Q8_0`].
    Q4_1,
}

/// Architectures, as configs and as files name them.
const ARCHITECTURES: [(&str, &str); 9] = [
    ("LlamaForCausalLM", "llama"),
    ("MixtralForCausalLM", "llama"),
    ("Qwen2ForCausalLM", "qwen2"),
    ("Qwen3ForCausalLM", "qwen3"),
    ("Qwen3MoeForCausalLM", "qwen3moe"),
    ("Gemma2ForCausalLM", "gemma2"),
    ("Gemma3ForCausalLM", "gemma3"),
    ("Phi3ForCausalLM", "phi3"),
    ("GraniteForCausalLM", "granite"),
];

/// Returns the file of a folder that holds a model with a byte-level tokenizer.
///
/// # Errors
/// When the folder cannot be read.
pub fn of_folder(folder: &Path, precision: Precision) -> io::Result<Vec<u8>> {
    let model = ModelDescription::open(folder).map_err(io::Error::other)?;
    let checkpoint = Checkpoint::open(folder).map_err(io::Error::other)?;
    let json = |name: &str| -> io::Result<Value> { Ok(serde_json::from_slice(&std::fs::read(folder.join(name))?)?) };
    let tokenizer = json("tokenizer.json")?;
    let family = ARCHITECTURES.iter().find(|(name, _)| *name == model.architecture);
    let family = family.map_or("llama", |(_, family)| family);
    let mut settings = vec![("general.architecture".to_owned(), Setting::Text(family.into()))];
    settings.extend(sizes(&model, family));
    settings.push(("tokenizer.ggml.model".into(), Setting::Text("gpt2".into())));
    settings.push(("tokenizer.ggml.pre".into(), Setting::Text("smollm".into())));
    settings.extend(vocabulary(&tokenizer));
    let texts = json("tokenizer_config.json").unwrap_or_default();
    if let Some(words) = texts["chat_template"].as_str() {
        settings.push(("tokenizer.chat_template".into(), Setting::Text(words.to_owned())));
    }
    settings.push(("tokenizer.ggml.add_bos_token".into(), Setting::Flag(false)));
    if let Some(id) = texts["bos_token"]
        .as_str()
        .and_then(|start| tokenizer["model"]["vocab"][start].as_u64())
    {
        settings.push(("tokenizer.ggml.bos_token_id".into(), Setting::Whole(id as u32)));
    }
    let generation = json("generation_config.json").unwrap_or_default();
    if let Some(id) = generation["eos_token_id"]
        .as_u64()
        .or(generation["eos_token_id"][0].as_u64())
    {
        settings.push(("tokenizer.ggml.eos_token_id".into(), Setting::Whole(id as u32)));
    }
    let mut tensors = divisors(&model);
    for (name, shape) in model.tensors() {
        let mut values = checkpoint.tensor(&name, &shape).map_err(io::Error::other)?.to_f32();
        if model.norms_from_one && name.ends_with("norm.weight") {
            values.iter_mut().for_each(|value| *value += 1.0);
        }
        let values = match name.rsplit('.').nth(1) {
            Some("q_proj") if PAIRED.contains(&family) => paired(values, shape[0], model.heads),
            Some("k_proj") if PAIRED.contains(&family) => paired(values, shape[0], model.kv_heads),
            _ => values,
        };
        let is_matrix = shape.len() == 2 && shape[1].is_multiple_of(32);
        let is_outer = name.contains("embed_tokens") || name.contains("lm_head");
        let (kind, bytes) = match precision {
            Precision::Q4_1 if is_matrix && !is_outer => (3, four_bits(&values)),
            Precision::Q8_0 | Precision::Q4_1 if is_matrix => (8, eight_bits(&values)),
            _ => (0, floats(&values)),
        };
        let stored = Stored {
            name: renamed(&name, model.after_norms),
            shape,
            kind,
            bytes,
        };
        add(&mut tensors, stored);
    }
    let settings: Vec<(&str, Setting)> = settings
        .iter()
        .map(|(name, value)| (name.as_str(), value.clone()))
        .collect();
    Ok(file(&settings, &tensors))
}

/// Files whose rows of queries and keys lie in turns.
const PAIRED: [&str; 2] = ["llama", "granite"];

/// Returns the settings that say what the model is.
fn sizes(model: &ModelDescription, family: &str) -> Vec<(String, Setting)> {
    let whole = |number: usize| Some(Setting::Whole(number as u32));
    let number = |number: f32| Some(Setting::Number(number));
    let window = model.windows.iter().copied().flatten().next();
    let experts = model.experts.as_ref();
    let linear = match model.rotary.scaling {
        RopeScaling::Linear { factor } => Some(factor as f32),
        _ => None,
    };
    let granite = |value: f32| (family == "granite").then_some(Setting::Number(value));
    [
        ("block_count", whole(model.layers)),
        ("context_length", whole(model.context)),
        ("embedding_length", whole(model.width)),
        ("feed_forward_length", whole(model.mlp_width)),
        ("attention.head_count", whole(model.heads)),
        ("attention.head_count_kv", whole(model.kv_heads)),
        ("attention.key_length", whole(model.head_dim)),
        ("attention.layer_norm_rms_epsilon", number(model.norm_epsilon)),
        ("attention.sliding_window", window.and_then(whole)),
        ("rope.freq_base", number(model.rotary.theta as f32)),
        ("rope.scaling.type", linear.map(|_| Setting::Text("linear".into()))),
        ("rope.scaling.factor", linear.and_then(number)),
        (
            "rope.scaling.original_context_length",
            match model.rotary.scaling {
                RopeScaling::Long { trained, .. } => whole(trained),
                _ => None,
            },
        ),
        ("attn_logit_softcapping", model.score_cap.and_then(number)),
        ("final_logit_softcapping", model.logit_cap.and_then(number)),
        ("attention.scale", granite(model.score_scale)),
        ("embedding_scale", granite(model.embedding_scale)),
        ("residual_scale", granite(model.residual_scale)),
        ("logit_scale", granite(1.0 / model.logit_scale)),
        ("expert_count", experts.and_then(|experts| whole(experts.count))),
        ("expert_used_count", experts.and_then(|experts| whole(experts.used))),
        (
            "expert_feed_forward_length",
            experts.and_then(|experts| whole(experts.width)),
        ),
    ]
    .into_iter()
    .filter_map(|(name, value)| Some((format!("{family}.{name}"), value?)))
    .collect()
}

/// Returns the tensors of divisors of rotary frequencies, where the model has such.
fn divisors(model: &ModelDescription) -> Vec<Stored> {
    let stored = |name: &str, values: Vec<f32>| Stored {
        name: name.to_owned(),
        shape: vec![values.len()],
        kind: 0,
        bytes: floats(&values),
    };
    let narrow = |values: &[f64]| values.iter().map(|value| *value as f32).collect::<Vec<f32>>();
    match &model.rotary.scaling {
        RopeScaling::Long { short, long, .. } => vec![
            stored("rope_factors_short.weight", narrow(short)),
            stored("rope_factors_long.weight", narrow(long)),
        ],
        RopeScaling::Llama3 { .. } => {
            let plain = Rotary {
                theta: model.rotary.theta,
                scaling: RopeScaling::None,
            };
            let plain = plain.frequencies(model.head_dim, model.context).0;
            let scaled = model.rotary.frequencies(model.head_dim, model.context).0;
            let factors: Vec<f64> = plain
                .iter()
                .zip(&scaled)
                .map(|(plain, scaled)| plain / scaled)
                .collect();
            vec![stored("rope_freqs.weight", narrow(&factors))]
        }
        _ => Vec::new(),
    }
}

/// Adds a tensor; those of experts, which come in their order, become one.
fn add(tensors: &mut Vec<Stored>, mut stored: Stored) {
    if !stored.name.ends_with("_exps.weight") {
        return tensors.push(stored);
    }
    match tensors.iter_mut().find(|tensor| tensor.name == stored.name) {
        Some(all) => {
            all.shape[0] += 1;
            all.bytes.extend(stored.bytes);
        }
        None => {
            stored.shape.insert(0, 1);
            tensors.push(stored);
        }
    }
}

fn vocabulary(tokenizer: &Value) -> Vec<(String, Setting)> {
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
        ("tokenizer.ggml.merges".into(), Setting::Texts(merges.collect())),
        ("tokenizer.ggml.tokens".into(), Setting::Texts(tokens)),
        ("tokenizer.ggml.token_type".into(), Setting::Wholes(kinds)),
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

/// Rounds to 4 bits from the least of 32 values to the largest: the scale, the least, and the codes, of which the second half lies
/// in the upper bits.
fn four_bits(values: &[f32]) -> Vec<u8> {
    let block = |values: &[f32]| {
        let least = values.iter().copied().fold(f32::INFINITY, f32::min);
        let largest = values.iter().copied().fold(f32::NEG_INFINITY, f32::max);
        let scale = half::f16::from_f32((largest - least) / 15.0);
        let least = half::f16::from_f32(least);
        let code = |value: f32| ((value - least.to_f32()) / scale.to_f32()).round().clamp(0.0, 15.0) as u8;
        let (low, high) = values.split_at(16);
        let codes = low.iter().zip(high).map(|(low, high)| code(*low) | code(*high) << 4);
        [scale.to_le_bytes(), least.to_le_bytes()]
            .concat()
            .into_iter()
            .chain(codes)
            .collect::<Vec<u8>>()
    };
    values.chunks(32).flat_map(block).collect()
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

fn renamed(name: &str, after_norms: bool) -> String {
    let parts: Vec<&str> = name.split('.').collect();
    if let Some(at) = parts.iter().position(|part| *part == "experts") {
        let part = match parts[at + 2] {
            "w1" | "gate_proj" => "gate",
            "w3" | "up_proj" => "up",
            _ => "down",
        };
        return format!("blk.{}.ffn_{part}_exps.weight", parts[2]);
    }
    let after = [
        ("post_attention_layernorm", "post_attention_norm"),
        ("pre_feedforward_layernorm", "ffn_norm"),
        ("post_feedforward_layernorm", "post_ffw_norm"),
    ];
    let pairs = [
        ("model.embed_tokens", "token_embd"),
        ("model.norm", "output_norm"),
        ("lm_head", "output"),
        ("model.layers", "blk"),
        ("input_layernorm", "attn_norm"),
        ("post_attention_layernorm", "ffn_norm"),
        ("self_attn.qkv_proj", "attn_qkv"),
        ("self_attn.q_norm", "attn_q_norm"),
        ("self_attn.k_norm", "attn_k_norm"),
        ("self_attn.q_proj", "attn_q"),
        ("self_attn.k_proj", "attn_k"),
        ("self_attn.v_proj", "attn_v"),
        ("self_attn.o_proj", "attn_output"),
        ("block_sparse_moe.gate", "ffn_gate_inp"),
        ("mlp.gate_up_proj", "ffn_up"),
        ("mlp.gate_proj", "ffn_gate"),
        ("mlp.up_proj", "ffn_up"),
        ("mlp.down_proj", "ffn_down"),
        ("mlp.gate.", "ffn_gate_inp."),
    ];
    let after = after.iter().filter(|_| after_norms);
    after
        .chain(&pairs)
        .fold(name.to_owned(), |name, (from, to)| name.replace(from, to))
}
