//! What a GGUF file says of its model, in the words of `config.json`.

use super::Gguf;
use crate::error::WeightsError;
use crate::groups::GroupWeights;
use serde_json::{Map, Value, json};

/// Architectures by the names that files carry, with the names of `config.json`.
const ARCHITECTURES: [(&str, &str); 3] = [
    ("llama", "LlamaForCausalLM"),
    ("qwen2", "Qwen2ForCausalLM"),
    ("qwen3", "Qwen3ForCausalLM"),
];
/// The one whose files have the rows of queries and keys in the order of its first published code.
const PAIRED: &str = "llama";

/// Parts of tensors' names, in files and in checkpoints of the other format; `blk.N.` stands before those of layers.
const LAYER_NAMES: [(&str, &str); 11] = [
    ("attn_norm", "input_layernorm"),
    ("ffn_norm", "post_attention_layernorm"),
    ("attn_q_norm", "self_attn.q_norm"),
    ("attn_k_norm", "self_attn.k_norm"),
    ("attn_q", "self_attn.q_proj"),
    ("attn_k", "self_attn.k_proj"),
    ("attn_v", "self_attn.v_proj"),
    ("attn_output", "self_attn.o_proj"),
    ("ffn_gate", "mlp.gate_proj"),
    ("ffn_up", "mlp.up_proj"),
    ("ffn_down", "mlp.down_proj"),
];
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
                .ok_or_else(|| self.refused(&name, "it has to be a whole number"))
        };
        if self.whole(&own("expert_count")).is_some_and(|experts| experts > 0) {
            return Err(self.refused(&own("expert_count"), "only models without experts can be run"));
        }
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
        if has("rope_freqs.weight") {
            let name = "rope_freqs.weight".to_owned();
            return Err(WeightsError::Field {
                file: self.path.clone(),
                field: name,
                found: "there".into(),
                wanted: "rotary frequencies of a file's own cannot be run yet; the same model as safetensors can"
                    .into(),
            });
        }
        let config = json!({
            "architectures": [architecture],
            "vocab_size": vocabulary,
            "hidden_size": width,
            "intermediate_size": whole("feed_forward_length")?,
            "num_hidden_layers": whole("block_count")?,
            "num_attention_heads": heads,
            "num_key_value_heads": self.whole(&own("attention.head_count_kv")),
            "head_dim": head_dim,
            "max_position_embeddings": whole("context_length")?,
            "rms_norm_eps": self.number(&own("attention.layer_norm_rms_epsilon")),
            "rope_theta": self.number(&own("rope.freq_base")),
            "rope_scaling": self.rope_scaling(&own("rope.scaling"))?,
            "tie_word_embeddings": !has("output.weight"),
            "attention_bias": has("blk.0.attn_q.bias"),
            "mlp_bias": has("blk.0.ffn_gate.bias"),
        });
        match config {
            Value::Object(config) => Ok(config),
            _ => unreachable!("an object was written"),
        }
    }

    fn rope_scaling(&self, prefix: &str) -> Result<Value, WeightsError> {
        let own = |name: &str| format!("{prefix}.{name}");
        match self.text(&own("type")) {
            None | Some("none") => Ok(Value::Null),
            Some(kind @ ("linear" | "yarn")) => Ok(json!({
                "rope_type": kind,
                "factor": self.number(&own("factor")),
                "original_max_position_embeddings": self.whole(&own("original_context_length")),
            })),
            Some(_) => Err(self.refused(&own("type"), "none, linear and yarn can be run")),
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
        let layer = stem.strip_prefix("blk.").and_then(|rest| rest.split_once('.'));
        let found = layer.and_then(|(number, own)| {
            let (_, other) = LAYER_NAMES.iter().find(|(name, _)| *name == own)?;
            Some((format!("model.layers.{number}.{other}.{part}"), own))
        });
        match found {
            Some((name, "attn_q")) => (name, self.paired("head_count")),
            Some((name, "attn_k")) => (name, self.paired("head_count_kv")),
            Some((name, _)) => (name, Rows::Plain),
            None => (name.to_owned(), Rows::Plain),
        }
    }

    fn paired(&self, count: &str) -> Rows {
        let family = self.text("general.architecture").unwrap_or_default();
        if family != PAIRED {
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
