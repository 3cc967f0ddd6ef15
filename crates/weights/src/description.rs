//! What a model is, from its `config.json`.

mod config;
mod family;

use crate::checkpoint::{Checkpoint, read_json};
use crate::error::WeightsError;
use crate::model_files::ModelFiles;
use crate::rope::Rotary;
use crate::scheme::Scheme;
use config::Fields;
use serde_json::{Map, Value};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
pub use vastrelay_kernels::attention::PAGE_TOKENS;

pub use family::{Activation, ExpertNames};

/// A decoder-only transformer described by data: all that is needed to run its weights.
#[derive(Clone, Debug, PartialEq)]
pub struct ModelDescription {
    /// The architecture name that the config carries.
    pub architecture: String,
    /// Number of tokens in the vocabulary.
    pub vocabulary: usize,
    /// Width of the residual stream.
    pub width: usize,
    /// Inner width of the MLP.
    pub mlp_width: usize,
    /// Number of layers.
    pub layers: usize,
    /// Number of query heads.
    pub heads: usize,
    /// Number of key and value heads.
    pub kv_heads: usize,
    /// Elements in a head.
    pub head_dim: usize,
    /// Added to the mean square in norms.
    pub norm_epsilon: f32,
    /// Most positions the model was made for.
    pub context: usize,
    /// Rotary positions.
    pub rotary: Rotary,
    /// Whether the output head is the embedding.
    pub tied_head: bool,
    /// Whether the projections to queries, keys and values have biases.
    pub attention_bias: bool,
    /// Whether the projection out of attention has one.
    pub output_bias: bool,
    /// Whether each head's queries and keys are normed before they are turned.
    pub head_norm: bool,
    /// Whether the MLP projections have biases.
    pub mlp_bias: bool,
    /// Whether queries, keys and values are one tensor, and gate and up another.
    pub fused: bool,
    /// The function inside the MLP's gate.
    pub activation: Activation,
    /// Whether norms scale by one plus their weight.
    pub norms_from_one: bool,
    /// Whether what attention and MLP give is normed before it is added to the stream.
    pub after_norms: bool,
    /// What embeddings are multiplied with.
    pub embedding_scale: f32,
    /// What is added to the stream is multiplied with this.
    pub residual_scale: f32,
    /// What scores are multiplied with before the softmax.
    pub score_scale: f32,
    /// Scores s become c · tanh(s / c).
    pub score_cap: Option<f32>,
    /// What logits are multiplied with.
    pub logit_scale: f32,
    /// Logits l become c · tanh(l / c).
    pub logit_cap: Option<f32>,
    /// For each layer, how many tokens it sees, its own included, where it does not see all.
    pub windows: Vec<Option<usize>>,
    /// Rotary positions of layers with a window, where they differ.
    pub local_rotary: Option<Rotary>,
    /// Experts in place of one MLP.
    pub experts: Option<Experts>,
}

/// Layers that see equally far: what one of them does not look at any more, none of them does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AttentionReach {
    /// How many tokens they see, a token's own included; all where there is no window.
    pub window: Option<usize>,
    /// How many layers.
    pub layers: usize,
}

/// Experts that share a layer's MLP ("Outrageously Large Neural Networks: The Sparsely-Gated Mixture-of-Experts Layer",
/// Shazeer et al., 2017).
#[derive(Clone, Debug, PartialEq)]
pub struct Experts {
    /// How many there are.
    pub count: usize,
    /// How many each token is sent to.
    pub used: usize,
    /// Their inner width.
    pub width: usize,
    /// Whether the shares of the used ones are made to sum to one.
    pub normalized: bool,
    /// How their tensors are called.
    pub names: ExpertNames,
    /// For each layer, whether it has them; the others have one MLP.
    pub layers: Vec<bool>,
}

impl AttentionReach {
    /// Returns the most pages that a sequence of so many tokens holds at once, when steps are of so many tokens at most.
    pub fn most_held(self, tokens: usize, step: usize) -> usize {
        let all = tokens.div_ceil(PAGE_TOKENS);
        // What is seen and what is computed begin and end within a page.
        let seen = |window: usize| (window - 1 + step + 2 * (PAGE_TOKENS - 1)) / PAGE_TOKENS;
        self.window.map_or(all, |window| all.min(seen(window)))
    }
}

/// Returns the config of a folder, or the path itself where that is a file.
pub fn config_of(path: &Path) -> PathBuf {
    if path.is_file() {
        path.to_owned()
    } else {
        path.join("config.json")
    }
}

/// Returns the architectures that can be run, by the names that `config.json` carries.
pub fn architectures() -> impl Iterator<Item = &'static str> {
    family::FAMILIES.iter().map(|family| family.name)
}

/// Tensors that some checkpoints carry and nothing needs: rotary frequencies, which the config implies.
const NEEDLESS: [&str; 1] = ["rotary_emb.inv_freq"];

impl ModelDescription {
    /// Reads `config.json` of a folder, such a file by itself, or the settings of a GGUF file.
    ///
    /// # Errors
    /// When it is missing or malformed, or says something that cannot be run: the error names the field.
    pub fn open(folder: &Path) -> Result<ModelDescription, WeightsError> {
        ModelDescription::read(&ModelFiles::open_or_config(folder)?)
    }

    /// As [`ModelDescription::open`], for a model that is open.
    ///
    /// # Errors
    /// As there.
    pub fn read(files: &ModelFiles) -> Result<ModelDescription, WeightsError> {
        if let Some(gguf) = files.gguf() {
            let (path, fields) = (files.path().to_owned(), gguf.config()?);
            return Fields { path, fields }.describe();
        }
        let path = config_of(files.path());
        let fields: Map<String, Value> = read_json(&path)?;
        Fields { path, fields }.describe()
    }

    /// Returns every tensor that the model needs with its shape.
    pub fn tensors(&self) -> Vec<(String, Vec<usize>)> {
        let (d, f) = (self.width, self.mlp_width);
        let (q, kv) = (self.heads * self.head_dim, self.kv_heads * self.head_dim);
        let mut tensors = vec![("model.embed_tokens.weight".to_owned(), vec![self.vocabulary, d])];
        for layer in 0..self.layers {
            let mut add = |name: &str, shape: Vec<usize>| tensors.push((format!("model.layers.{layer}.{name}"), shape));
            for name in self.norms() {
                add(&format!("{name}.weight"), vec![d]);
            }
            let projections = if self.fused {
                vec![("qkv_proj", q + 2 * kv, d), ("o_proj", d, q)]
            } else {
                vec![("q_proj", q, d), ("k_proj", kv, d), ("v_proj", kv, d), ("o_proj", d, q)]
            };
            for (name, outputs, inputs) in projections {
                add(&format!("self_attn.{name}.weight"), vec![outputs, inputs]);
                let biased = if name == "o_proj" {
                    self.output_bias
                } else {
                    self.attention_bias
                };
                if biased {
                    add(&format!("self_attn.{name}.bias"), vec![outputs]);
                }
            }
            if self.head_norm {
                add("self_attn.q_norm.weight", vec![self.head_dim]);
                add("self_attn.k_norm.weight", vec![self.head_dim]);
            }
            if let Some(experts) = self.experts_of(layer) {
                let (block, f) = (experts.names.block, experts.width);
                add(&format!("{block}.gate.weight"), vec![experts.count, d]);
                for expert in 0..experts.count {
                    for (name, shape) in experts.names.parts.iter().zip([[f, d], [f, d], [d, f]]) {
                        add(&format!("{block}.experts.{expert}.{name}.weight"), shape.to_vec());
                    }
                }
                continue;
            }
            let projections = if self.fused {
                vec![("gate_up_proj", 2 * f, d), ("down_proj", d, f)]
            } else {
                vec![("gate_proj", f, d), ("up_proj", f, d), ("down_proj", d, f)]
            };
            for (name, outputs, inputs) in projections {
                add(&format!("mlp.{name}.weight"), vec![outputs, inputs]);
                if self.mlp_bias {
                    add(&format!("mlp.{name}.bias"), vec![outputs]);
                }
            }
        }
        tensors.push(("model.norm.weight".to_owned(), vec![d]));
        if !self.tied_head {
            tensors.push(("lm_head.weight".to_owned(), vec![self.vocabulary, d]));
        }
        tensors
    }

    /// Returns the names of a layer's norms over the stream: before attention, before the MLP, then those after each.
    pub fn norms(&self) -> &'static [&'static str] {
        if self.after_norms {
            &[
                "input_layernorm",
                "pre_feedforward_layernorm",
                "post_attention_layernorm",
                "post_feedforward_layernorm",
            ]
        } else {
            &["input_layernorm", "post_attention_layernorm"]
        }
    }

    /// Returns the experts of a layer, if it has any.
    pub fn experts_of(&self, layer: usize) -> Option<&Experts> {
        self.experts.as_ref().filter(|experts| experts.layers[layer])
    }

    /// Returns the kinds of layers by how far they see, the farthest first.
    pub fn reaches(&self) -> Vec<AttentionReach> {
        let mut windows = self.windows.clone();
        windows.sort_by_key(|window| std::cmp::Reverse(window.unwrap_or(usize::MAX)));
        windows.dedup();
        let layers = |window| self.windows.iter().filter(|other| **other == window).count();
        let reach = |window| AttentionReach {
            window,
            layers: layers(window),
        };
        windows.into_iter().map(reach).collect()
    }

    /// Returns which of the [`ModelDescription::reaches`] each layer has.
    pub fn reach_of_layers(&self) -> Vec<usize> {
        let reaches = self.reaches();
        let of = |window: &Option<usize>| reaches.iter().position(|reach| reach.window == *window);
        self.windows
            .iter()
            .map(|window| of(window).expect("each window is a sight"))
            .collect()
    }

    /// Returns the number of parameters.
    pub fn parameters(&self) -> usize {
        self.tensors()
            .iter()
            .map(|(_, shape)| shape.iter().product::<usize>())
            .sum()
    }

    /// Checks that a checkpoint holds each tensor of the model in its shape, and no tensor that the model lacks.
    ///
    /// # Errors
    /// On the first tensor that is missing, misshapen, of an unreadable type, or unexpected.
    pub fn check(&self, checkpoint: &Checkpoint) -> Result<(), WeightsError> {
        self.problems(checkpoint).into_iter().next().map_or(Ok(()), Err)
    }

    /// Returns every tensor that is missing, misshapen, of an unreadable type, or unexpected.
    pub fn problems(&self, checkpoint: &Checkpoint) -> Vec<WeightsError> {
        let wanted = self.tensors();
        let names: HashSet<&str> = wanted.iter().map(|(name, _)| name.as_str()).collect();
        // Some quantizers write biases of zero for matrices that have none.
        let nothing = |name: &str| {
            let scheme = matches!(checkpoint.scheme(), Scheme::ErrorCompensating { .. });
            scheme && name.ends_with(".bias") && checkpoint.is_zero(name)
        };
        let known = |name: &str| {
            names.contains(name)
                || checkpoint
                    .part_of(name)
                    .is_some_and(|whole| names.contains(whole.as_str()))
                || nothing(name)
                || NEEDLESS.iter().any(|ending| name.ends_with(ending))
                || (self.tied_head && name == "lm_head.weight")
        };
        let unfit = wanted
            .iter()
            .filter_map(|(name, shape)| checkpoint.fits(name, shape).err());
        let unexpected = checkpoint.names().filter(|name| !known(name));
        let unexpected = unexpected.map(|name| WeightsError::Unexpected {
            name: name.to_owned(),
            folder: checkpoint.folder().to_owned(),
            architecture: self.architecture.clone(),
        });
        unfit.chain(unexpected).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn config() -> Value {
        json!({
            "architectures": ["LlamaForCausalLM"], "vocab_size": 100, "hidden_size": 32, "intermediate_size": 48,
            "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "max_position_embeddings": 64,
            "rms_norm_eps": 1e-5, "tie_word_embeddings": true,
        })
    }

    fn describe(config: &Value) -> Result<ModelDescription, WeightsError> {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), config.to_string()).unwrap();
        ModelDescription::open(folder.path())
    }

    #[test]
    fn reads_the_common_layout_and_counts_its_parameters() {
        let model = describe(&config()).unwrap();
        assert_eq!((model.head_dim, model.kv_heads, model.rotary.theta), (8, 2, 10_000.0));
        let layer = 2 * 32 + 32 * (32 + 16 + 16) + 32 * 32 + 3 * 32 * 48;
        assert_eq!(model.parameters(), 100 * 32 + 2 * layer + 32);
    }

    #[test]
    fn what_cannot_be_run_is_refused_by_the_fields_name() {
        let cases = [
            ("architectures", json!(["OtherForCausalLM"])),
            ("hidden_act", json!("relu")),
            ("final_logit_softcapping", json!(30.0)),
            ("sliding_window", json!(63)),
            ("layer_types", json!(["full_attention", "sliding_attention"])),
            ("num_hidden_layers", json!(1 << 28)),
            ("hidden_size", json!(0)),
            ("vocab_size", json!(-1)),
            ("num_key_value_heads", json!(3)),
            ("head_dim", json!(7)),
            ("rms_norm_eps", json!("small")),
            ("attention_bias", json!(1)),
            ("rope_theta", json!(0)),
            ("rope_scaling", json!("linear")),
            ("auto_map", json!({"a": "b"})),
            ("partial_rotary_factor", json!(0.5)),
            ("layers", json!(null)),
        ];
        for (field, value) in cases {
            let mut config = config();
            config[field] = value.clone();
            match describe(&config) {
                Err(error) => assert!(error.to_string().contains(&format!("`{field}`")), "{error}"),
                Ok(_) => assert!(value.is_null(), "{field} = {value} went through"),
            }
        }
    }

    #[test]
    fn more_experts_than_there_can_be_are_refused_before_they_are_listed() {
        for (architecture, field) in [
            ("MixtralForCausalLM", "num_local_experts"),
            ("Qwen3MoeForCausalLM", "num_experts"),
        ] {
            let mut config = config();
            config["architectures"] = json!([architecture]);
            config["num_experts_per_tok"] = json!(2);
            config["moe_intermediate_size"] = json!(8);
            config[field] = json!(1 << 28);
            let error = describe(&config).unwrap_err().to_string();
            assert!(error.contains(field) && error.contains("131072"), "{error}");
            config[field] = json!(8);
            assert!(describe(&config).is_ok());
        }
    }

    #[test]
    fn families_differ_by_flags_alone() {
        let described = |name: &str| {
            let mut config = config();
            config["architectures"] = json!([name]);
            describe(&config).unwrap()
        };
        let names = |model: &ModelDescription| {
            let tensors = model.tensors().into_iter().map(|(name, _)| name);
            tensors
                .filter(|name| name.starts_with("model.layers.0.self_attn"))
                .collect::<Vec<_>>()
        };
        let has = |model: &ModelDescription, ending: &str| names(model).iter().any(|name| name.ends_with(ending));
        let qwen2 = described("Qwen2ForCausalLM");
        assert!(has(&qwen2, "q_proj.bias") && has(&qwen2, "v_proj.bias") && !has(&qwen2, "o_proj.bias"));
        let qwen3 = described("Qwen3ForCausalLM");
        assert!(has(&qwen3, "q_norm.weight") && has(&qwen3, "k_norm.weight") && !has(&qwen3, ".bias"));
        assert_eq!(
            names(&described("MistralForCausalLM")),
            names(&described("LlamaForCausalLM"))
        );
    }

    #[test]
    fn windows_that_nothing_falls_out_of_are_none() {
        for (field, value) in [
            ("sliding_window", json!(64)),
            ("layer_types", json!(["full_attention", "full_attention"])),
        ] {
            let mut config = config();
            config[field] = value;
            describe(&config).unwrap();
        }
        let mut config = config();
        config["sliding_window"] = json!(8);
        config["use_sliding_window"] = json!(false);
        describe(&config).unwrap();
    }

    #[test]
    fn a_missing_field_is_named() {
        for field in ["hidden_size", "num_hidden_layers", "max_position_embeddings"] {
            let mut config = config();
            config.as_object_mut().unwrap().remove(field);
            let error = describe(&config).unwrap_err().to_string();
            assert!(error.contains(field) && error.contains("missing"), "{error}");
        }
    }
}
