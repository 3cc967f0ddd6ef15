//! What a GGUF file says of its model, in the words of `config.json`.

use super::Gguf;
use crate::error::WeightsError;
use crate::groups::GroupWeights;
use serde_json::{Map, Value, json};
use std::borrow::Cow;

/// Architectures by the names that files carry, with the names of `config.json`.
const ARCHITECTURES: [(&str, &str); 8] = [
    ("llama", "LlamaForCausalLM"),
    ("qwen2", "Qwen2ForCausalLM"),
    ("qwen3", "Qwen3ForCausalLM"),
    ("gemma2", "Gemma2ForCausalLM"),
    ("gemma3", "Gemma3ForCausalLM"),
    ("phi3", "Phi3ForCausalLM"),
    ("granite", "GraniteForCausalLM"),
    ("qwen3moe", "Qwen3MoeForCausalLM"),
];
/// Returns the name that GGUF files have for an architecture of `config.json`.
pub fn family_of(architecture: &str) -> Option<&'static str> {
    let same =
        |name: &str| name == architecture || (LIKE_THE_FIRST.contains(&architecture) && name == ARCHITECTURES[0].1);
    ARCHITECTURES
        .iter()
        .find(|(_, name)| same(name))
        .map(|(family, _)| *family)
}

/// Architectures that files do not tell from the first.
const LIKE_THE_FIRST: [&str; 2] = ["MistralForCausalLM", WITH_EXPERTS];
/// What the first is, when it has experts.
const WITH_EXPERTS: &str = "MixtralForCausalLM";
/// Those whose files have the rows of queries and keys in the order of the first one's published code.
const PAIRED: [&str; 2] = ["llama", "granite"];
/// Layers of the largest of each family whose scores are divided by the root of width ÷ heads instead of a head's size.
const WIDE_SCORES: [(&str, u64); 2] = [("gemma2", 46), ("gemma3", 62)];

/// Parts of tensors' names, in files and in checkpoints of the other format; `blk.N.` stands before those of layers.
const LAYER_NAMES: [(&str, &str); 12] = [
    ("attn_norm", "input_layernorm"),
    ("ffn_norm", "post_attention_layernorm"),
    ("attn_q_norm", "self_attn.q_norm"),
    ("attn_k_norm", "self_attn.k_norm"),
    ("attn_q", "self_attn.q_proj"),
    ("attn_k", "self_attn.k_proj"),
    ("attn_v", "self_attn.v_proj"),
    ("attn_qkv", "self_attn.qkv_proj"),
    ("attn_output", "self_attn.o_proj"),
    ("ffn_gate", "mlp.gate_proj"),
    ("ffn_up", "mlp.up_proj"),
    ("ffn_down", "mlp.down_proj"),
];
/// Names of norms in families that have one after attention and MLP as well.
const AFTER_NAMES: [(&str, &str); 3] = [
    ("post_attention_norm", "post_attention_layernorm"),
    ("ffn_norm", "pre_feedforward_layernorm"),
    ("post_ffw_norm", "post_feedforward_layernorm"),
];
/// Tensors that hold what `config.json` says.
const SETTINGS: [&str; 3] = ["rope_freqs", "rope_factors_long", "rope_factors_short"];
const OTHER_NAMES: [(&str, &str); 3] = [
    ("token_embd", "model.embed_tokens"),
    ("output_norm", "model.norm"),
    ("output", "lm_head"),
];

/// How the rows of a tensor lie.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Rows {
    /// As everywhere else.
    Plain,
    /// Of each head, the two halves that turn together lie in turns: first of the one, first of the other, second of the one.
    Paired {
        /// How many heads.
        heads: usize,
    },
}

impl Gguf {
    /// Returns what `config.json` would say.
    ///
    /// # Errors
    /// When a setting is missing or is not supported.
    pub fn config(&self) -> Result<Map<String, Value>, WeightsError> {
        let family = self.text("general.architecture").unwrap_or_default();
        let architecture = ARCHITECTURES.iter().find(|(name, _)| *name == family);
        let Some((_, architecture)) = architecture else {
            let known: Vec<String> = ARCHITECTURES.iter().map(|(name, _)| format!("\"{name}\"")).collect();
            return Err(self.refused("general.architecture", &format!("{} can be run", known.join(", "))));
        };
        let own = |name: &str| format!("{family}.{name}");
        let whole = |name: &str| {
            let name = own(name);
            self.whole(&name)
                .ok_or_else(|| self.refused(&name, "must be a whole number"))
        };
        let experts = self.whole(&own("expert_count")).filter(|experts| *experts > 0);
        let architecture = match (family, experts) {
            ("llama", Some(_)) => &WITH_EXPERTS,
            ("qwen3moe", _) | (_, None) => architecture,
            _ => return Err(self.refused(&own("expert_count"), "this architecture can be run without experts")),
        };
        let heads = whole("attention.head_count")?;
        let width = whole("embedding_length")?;
        let head_dim = self.whole(&own("attention.key_length")).or(width.checked_div(heads));
        let rotary = self.whole(&own("rope.dimension_count"));
        if rotary.is_some_and(|rotary| Some(rotary) != head_dim) {
            return Err(self.refused(
                &own("rope.dimension_count"),
                "only rotary positions over whole heads can be run",
            ));
        }
        let vocabulary = match self.tensors.iter().find(|tensor| tensor.name == "token_embd.weight") {
            Some(tensor) => tensor.shape[0] as u64,
            None => whole("vocab_size")?,
        };
        let has = |name: &str| self.tensors.iter().any(|tensor| tensor.name == name);
        let layers = whole("block_count")?;
        let gemma = family.starts_with("gemma");
        let score_size = match WIDE_SCORES.contains(&(family, layers)) {
            true => width.checked_div(heads),
            false => head_dim,
        };
        let cap = |name: &str| self.number(&own(name));
        let config = json!({
            "architectures": [architecture],
            "vocab_size": vocabulary,
            "hidden_size": width,
            "intermediate_size": whole("feed_forward_length")?,
            "num_hidden_layers": layers,
            "num_attention_heads": heads,
            "num_key_value_heads": self.whole(&own("attention.head_count_kv")),
            "head_dim": head_dim,
            "max_position_embeddings": whole("context_length")?,
            "rms_norm_eps": self.number(&own("attention.layer_norm_rms_epsilon")),
            "rope_theta": self.number(&own("rope.freq_base")),
            "rope_scaling": self.rope_scaling(&own("rope.scaling"), whole("context_length")?)?,
            "tie_word_embeddings": !has("output.weight"),
            "attention_bias": has("blk.0.attn_q.bias"),
            "mlp_bias": has("blk.0.ffn_gate.bias"),
            "sliding_window": self.whole(&own("attention.sliding_window")),
        });
        // A family reads its own fields only; others would be refused.
        let more = match family {
            _ if gemma => json!({
                "query_pre_attn_scalar": score_size,
                "attn_logit_softcapping": cap("attn_logit_softcapping"),
                "final_logit_softcapping": cap("final_logit_softcapping"),
                // Files have the one added already.
                "norms_from_one": false,
            }),
            "granite" => json!({
                "embedding_multiplier": cap("embedding_scale"),
                "residual_multiplier": cap("residual_scale"),
                "attention_multiplier": cap("attention.scale"),
                "logits_scaling": cap("logit_scale"),
            }),
            "llama" if experts.is_some() => json!({
                "num_local_experts": experts,
                "num_experts_per_tok": whole("expert_used_count")?,
            }),
            "qwen3moe" => json!({
                "num_experts": experts,
                "num_experts_per_tok": whole("expert_used_count")?,
                "moe_intermediate_size": whole("expert_feed_forward_length")?,
                "norm_topk_prob": true,
            }),
            _ => json!({}),
        };
        match (config, more) {
            (Value::Object(mut config), Value::Object(more)) => {
                config.extend(more);
                Ok(config)
            }
            _ => unreachable!("objects were written"),
        }
    }

    fn rope_scaling(&self, prefix: &str, context: u64) -> Result<Value, WeightsError> {
        let own = |name: &str| format!("{prefix}.{name}");
        let trained = self.whole(&own("original_context_length"));
        if let Some(divisors) = self.divisors("rope_freqs.weight")? {
            return Ok(json!({
                "rope_type": "longrope",
                "short_factor": divisors,
                "long_factor": divisors,
                "original_max_position_embeddings": context,
                "attention_factor": 1.0,
            }));
        }
        if let (Some(short), Some(long)) = (
            self.divisors("rope_factors_short.weight")?,
            self.divisors("rope_factors_long.weight")?,
        ) {
            return Ok(json!({
                "rope_type": "longrope",
                "short_factor": short,
                "long_factor": long,
                "original_max_position_embeddings": trained.unwrap_or(context),
                "attention_factor": self.number(&own("attn_factor")),
            }));
        }
        match self.text(&own("type")) {
            None | Some("none") => Ok(Value::Null),
            Some(kind @ ("linear" | "yarn")) => Ok(json!({
                "rope_type": kind,
                "factor": self.number(&own("factor")),
                "original_max_position_embeddings": trained,
            })),
            Some(_) => Err(self.refused(&own("type"), "none, linear and yarn can be run")),
        }
    }

    /// Returns the numbers of a tensor of divisors of rotary frequencies, if it is there.
    fn divisors(&self, name: &str) -> Result<Option<Vec<f32>>, WeightsError> {
        let Some(tensor) = self.tensors.iter().find(|tensor| tensor.name == name) else {
            return Ok(None);
        };
        match self.bytes.get(tensor.bytes.clone()) {
            Some(bytes) => Ok(Some(tensor.stored.values(bytes))),
            None => Err(self.refused(name, "it has to lie within the file")),
        }
    }

    /// Returns the ids of tokens that end an answer.
    pub fn end_ids(&self) -> Vec<u32> {
        let names = ["tokenizer.ggml.eos_token_id", "tokenizer.ggml.eot_token_id"];
        let mut ids: Vec<u32> = names
            .iter()
            .filter_map(|name| self.whole(name)?.try_into().ok())
            .collect();
        ids.dedup();
        ids
    }

    /// Returns the chat template.
    pub fn template(&self) -> Option<&str> {
        self.text("tokenizer.chat_template")
    }

    /// Returns the text of the token that begins, or ends, a text.
    pub fn bound(&self, which: &str) -> Option<&str> {
        let id = self.whole(&format!("tokenizer.ggml.{which}_token_id"))?;
        match self.list("tokenizer.ggml.tokens")?.get(id as usize)? {
            super::Setting::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Returns a tensor's name in the other format's words, and how its rows lie.
    pub(crate) fn renamed(&self, name: &str) -> (String, Rows) {
        let Some((stem, part)) = name.rsplit_once('.') else {
            return (name.to_owned(), Rows::Plain);
        };
        if let Some((_, other)) = OTHER_NAMES.iter().find(|(own, _)| *own == stem) {
            return (format!("{other}.{part}"), Rows::Plain);
        }
        let family = self.text("general.architecture").unwrap_or_default();
        let layer = stem.strip_prefix("blk.").and_then(|rest| rest.split_once('.'));
        let found = layer.and_then(|(number, own)| {
            let after = AFTER_NAMES.iter().filter(|_| family.starts_with("gemma"));
            let (_, other) = after.chain(&LAYER_NAMES).find(|(name, _)| *name == own)?;
            // Two in one are called as the second of them.
            let fused = own == "ffn_up" && family == "phi3";
            let other = if fused { "mlp.gate_up_proj" } else { other };
            Some((format!("model.layers.{number}.{other}.{part}"), own))
        });
        match found {
            Some((name, "attn_q")) => (name, self.paired("head_count")),
            Some((name, "attn_k")) => (name, self.paired("head_count_kv")),
            Some((name, _)) => (name, Rows::Plain),
            None => match layer {
                Some((number, "ffn_gate_inp")) => {
                    let block = if family == "llama" { "block_sparse_moe" } else { "mlp" };
                    (format!("model.layers.{number}.{block}.gate.{part}"), Rows::Plain)
                }
                _ => (name.to_owned(), Rows::Plain),
            },
        }
    }

    /// Returns whether a tensor only holds what the config says already.
    pub(crate) fn is_setting(name: &str) -> bool {
        SETTINGS
            .iter()
            .any(|setting| name.strip_suffix(".weight") == Some(setting))
    }

    /// Returns what each expert's part of a tensor of all of them is called, if it is one.
    pub(crate) fn expert_names(&self, name: &str) -> Option<impl Fn(usize) -> String + use<>> {
        let rest = name.strip_prefix("blk.")?.strip_suffix(".weight")?;
        let (layer, part) = rest.split_once('.')?;
        let place = ["ffn_gate_exps", "ffn_up_exps", "ffn_down_exps"]
            .iter()
            .position(|own| *own == part)?;
        let (block, parts) = match self.text("general.architecture") {
            Some("llama") => ("block_sparse_moe", ["w1", "w3", "w2"]),
            _ => ("mlp", ["gate_proj", "up_proj", "down_proj"]),
        };
        let (at, part) = (format!("model.layers.{layer}.{block}.experts"), parts[place]);
        Some(move |expert| format!("{at}.{expert}.{part}.weight"))
    }

    fn paired(&self, count: &str) -> Rows {
        let family = self.text("general.architecture").unwrap_or_default();
        if !PAIRED.contains(&family) {
            return Rows::Plain;
        }
        let heads = |count: &str| self.whole(&format!("{family}.attention.{count}"));
        let heads = heads(count).or_else(|| heads("head_count")).unwrap_or(0);
        Rows::Paired { heads: heads as usize }
    }
}

impl Rows {
    /// Puts rows of so many values each into the order that is used everywhere else.
    pub fn in_order<T: Copy>(self, values: Vec<T>, rows: usize) -> Vec<T> {
        let Rows::Paired { heads } = self else { return values };
        if heads == 0 || !rows.is_multiple_of(2 * heads) {
            return values;
        }
        let (columns, size) = (values.len() / rows, rows / heads);
        let mut ordered = Vec::with_capacity(values.len());
        for row in 0..rows {
            let (head, place) = (row / size, row % size);
            let (half, index) = (place / (size / 2), place % (size / 2));
            let from = (head * size + 2 * index + half) * columns;
            ordered.extend_from_slice(&values[from..from + columns]);
        }
        ordered
    }

    /// As [`Rows::in_order`]; values that lie in order are not copied.
    pub fn in_order_cow<T: Copy>(self, values: Cow<'_, [T]>, rows: usize) -> Cow<'_, [T]> {
        match self {
            Rows::Plain => values,
            Rows::Paired { .. } => Cow::Owned(self.in_order(values.into_owned(), rows)),
        }
    }

    /// As [`Rows::in_order`], for rows of small numbers.
    pub fn in_order_groups(self, groups: GroupWeights, rows: usize) -> GroupWeights {
        GroupWeights {
            numbers: self.in_order(groups.numbers, rows),
            scales: self.in_order(groups.scales, rows),
            minima: groups.minima.map(|minima| self.in_order(minima, rows)),
            ..groups
        }
    }
}
