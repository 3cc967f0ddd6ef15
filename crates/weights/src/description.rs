//! What a model is, from its `config.json`.

use crate::checkpoint::{Checkpoint, read_json};
use crate::error::WeightsError;
use crate::gguf::Gguf;
use crate::rope::{RopeScaling, Rotary};
use serde_json::{Map, Value};
use std::collections::HashSet;
use std::path::{Path, PathBuf};

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
}

/// What tells a family of models from the common layout.
struct Family {
    /// The name that `config.json` carries.
    name: &'static str,
    /// Whether queries, keys and values have biases; as `attention_bias` says when absent.
    attention_bias: Option<bool>,
    /// Whether the projection out of attention has one; as `attention_bias` says when absent.
    output_bias: Option<bool>,
    /// Whether heads are normed.
    head_norm: bool,
}

/// The families that can be run. Another is added by a line, as long as the arithmetic below is all it needs.
const FAMILIES: [Family; 4] = [
    Family {
        name: "LlamaForCausalLM",
        attention_bias: None,
        output_bias: None,
        head_norm: false,
    },
    Family {
        name: "MistralForCausalLM",
        attention_bias: Some(false),
        output_bias: Some(false),
        head_norm: false,
    },
    Family {
        name: "Qwen2ForCausalLM",
        attention_bias: Some(true),
        output_bias: Some(false),
        head_norm: false,
    },
    Family {
        name: "Qwen3ForCausalLM",
        attention_bias: None,
        output_bias: None,
        head_norm: true,
    },
];

/// Fields that change the arithmetic of other architectures; with a value they are refused.
const FOREIGN: [&str; 12] = [
    "attn_logit_softcapping",
    "final_logit_softcapping",
    "query_pre_attn_scalar",
    "embedding_multiplier",
    "residual_multiplier",
    "attention_multiplier",
    "logits_scaling",
    "num_local_experts",
    "num_experts",
    "quantization_config",
    "use_qk_norm",
    "adapter_path",
];

/// Tensors that some checkpoints carry and nothing needs: rotary frequencies, which the config implies.
const NEEDLESS: [&str; 1] = ["rotary_emb.inv_freq"];

impl ModelDescription {
    /// Reads `config.json` of a folder, or the settings of a GGUF file.
    ///
    /// # Errors
    /// When it is missing or malformed, or says something that cannot be run: the error names the field.
    pub fn open(folder: &Path) -> Result<ModelDescription, WeightsError> {
        if Gguf::is_one(folder) {
            let fields = Gguf::open(folder)?.config()?;
            let path = folder.to_owned();
            return Fields { path, fields }.describe();
        }
        let path = folder.join("config.json");
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
            add("input_layernorm.weight", vec![d]);
            add("post_attention_layernorm.weight", vec![d]);
            for (name, outputs, inputs) in [("q_proj", q, d), ("k_proj", kv, d), ("v_proj", kv, d), ("o_proj", d, q)] {
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
            for (name, outputs, inputs) in [("gate_proj", f, d), ("up_proj", f, d), ("down_proj", d, f)] {
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
        let known = |name: &str| {
            names.contains(name)
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

/// The config as it was read, with the path for errors.
struct Fields {
    path: PathBuf,
    fields: Map<String, Value>,
}

impl Fields {
    fn describe(&self) -> Result<ModelDescription, WeightsError> {
        let family = self.family()?;
        self.refuse_foreign()?;
        let width = self.count("hidden_size")?;
        let heads = self.count("num_attention_heads")?;
        let kv_heads = if self.get("num_key_value_heads").is_some() {
            self.count("num_key_value_heads")?
        } else {
            heads
        };
        if !heads.is_multiple_of(kv_heads) {
            return self.refuse(
                "num_key_value_heads",
                format!("it has to divide num_attention_heads, {heads}"),
            );
        }
        let head_dim = match self.get("head_dim") {
            Some(_) => self.count("head_dim")?,
            None if width.is_multiple_of(heads) => width / heads,
            None => {
                return self.refuse(
                    "hidden_size",
                    format!("without `head_dim` it has to be a multiple of {heads} heads"),
                );
            }
        };
        if !head_dim.is_multiple_of(2) {
            return self.refuse("head_dim", "rotary positions need an even number".into());
        }
        let context = self.count("max_position_embeddings")?;
        self.refuse_windows(context)?;
        let biased = self.flag("attention_bias")?;
        Ok(ModelDescription {
            architecture: family.name.into(),
            vocabulary: self.count("vocab_size")?,
            width,
            mlp_width: self.count("intermediate_size")?,
            layers: self.count("num_hidden_layers")?,
            heads,
            kv_heads,
            head_dim,
            norm_epsilon: self.number("rms_norm_eps")?.unwrap_or(1e-6) as f32,
            context,
            rotary: self.rotary(context)?,
            tied_head: self.flag("tie_word_embeddings")?,
            attention_bias: family.attention_bias.unwrap_or(biased),
            output_bias: family.output_bias.unwrap_or(biased),
            head_norm: family.head_norm,
            mlp_bias: self.flag("mlp_bias")?,
        })
    }

    fn family(&self) -> Result<&'static Family, WeightsError> {
        let name = self
            .get("architectures")
            .and_then(|list| list.get(0))
            .and_then(Value::as_str);
        match FAMILIES.iter().find(|family| Some(family.name) == name) {
            Some(family) => Ok(family),
            None => {
                let known: Vec<String> = FAMILIES.iter().map(|family| format!("[\"{}\"]", family.name)).collect();
                self.refuse("architectures", format!("{} can be run", known.join(", ")))
            }
        }
    }

    /// Layers that see only the last tokens cannot be run; windows that are switched off, or wider than the context, are none.
    fn refuse_windows(&self, context: usize) -> Result<(), WeightsError> {
        let used = self
            .get("use_sliding_window")
            .is_none_or(|used| *used != Value::Bool(false));
        let narrow = |window: &Value| window.as_u64().is_none_or(|window| window < context as u64);
        if used && self.get("sliding_window").is_some_and(narrow) {
            return self.refuse("sliding_window", format!("null, or {context} and more, would work"));
        }
        let full = |kinds: &Vec<Value>| kinds.iter().all(|kind| kind == "full_attention");
        match self.get("layer_types") {
            Some(kinds) if !kinds.as_array().is_some_and(full) => {
                self.refuse("layer_types", "only layers of \"full_attention\" can be run".into())
            }
            _ => Ok(()),
        }
    }

    fn refuse_foreign(&self) -> Result<(), WeightsError> {
        if self.get("auto_map").is_some() {
            return self.refuse(
                "auto_map",
                "the model needs code shipped with its weights, and such code never runs".into(),
            );
        }
        if let Some(field) = FOREIGN.iter().find(|field| self.get(field).is_some()) {
            return self.refuse(
                field,
                "it changes the arithmetic in a way that is not supported; null would work".into(),
            );
        }
        if self.get("hidden_act").is_some_and(|act| act != "silu") {
            return self.refuse("hidden_act", "only \"silu\" can be run".into());
        }
        if self.number("pretraining_tp")?.is_some_and(|split| split != 1.0) {
            return self.refuse("pretraining_tp", "only 1 can be run".into());
        }
        if self.number("partial_rotary_factor")?.is_some_and(|part| part != 1.0) {
            return self.refuse("partial_rotary_factor", "only 1.0 can be run".into());
        }
        Ok(())
    }

    /// Rotary settings: `rope_theta` and `rope_scaling`, or the newer `rope_parameters` that hold both.
    fn rotary(&self, context: usize) -> Result<Rotary, WeightsError> {
        let newer = self.get("rope_parameters");
        let scaling = newer.or_else(|| self.get("rope_scaling"));
        let theta = match newer.and_then(|p| p.get("rope_theta")) {
            Some(theta) => theta.as_f64(),
            None => self.number("rope_theta")?.or(Some(10_000.0)),
        };
        let Some(theta) = theta.filter(|theta| *theta > 1.0 && theta.is_finite()) else {
            return self.refuse("rope_theta", "it has to be a number above 1".into());
        };
        let scaling = match scaling {
            None => RopeScaling::None,
            Some(Value::Object(scaling)) => RopeScaling::parse(scaling, context).map_err(|(field, wanted)| {
                let found = scaling.get(&field).map_or("missing".into(), Value::to_string);
                WeightsError::Field {
                    file: self.path.clone(),
                    field: format!("rope_scaling.{field}"),
                    found,
                    wanted,
                }
            })?,
            Some(_) => return self.refuse("rope_scaling", "it has to be an object or null".into()),
        };
        Ok(Rotary { theta, scaling })
    }

    /// Returns a field, where null counts as absent.
    fn get(&self, field: &str) -> Option<&Value> {
        self.fields.get(field).filter(|value| !value.is_null())
    }

    fn count(&self, field: &str) -> Result<usize, WeightsError> {
        // The bound keeps products of two sizes inside 64 bits.
        match self.get(field).and_then(Value::as_u64) {
            Some(count) if (1..=1 << 28).contains(&count) => Ok(count as usize),
            _ => self.refuse(field, "it has to be a whole number from 1 to 2^28".into()),
        }
    }

    fn number(&self, field: &str) -> Result<Option<f64>, WeightsError> {
        match self.get(field) {
            None => Ok(None),
            Some(value) => match value.as_f64() {
                Some(number) => Ok(Some(number)),
                None => self.refuse(field, "it has to be a number".into()),
            },
        }
    }

    fn flag(&self, field: &str) -> Result<bool, WeightsError> {
        match self.get(field) {
            None => Ok(false),
            Some(Value::Bool(flag)) => Ok(*flag),
            Some(_) => self.refuse(field, "it has to be true or false".into()),
        }
    }

    fn refuse<T>(&self, field: &str, wanted: String) -> Result<T, WeightsError> {
        let found = self.fields.get(field).map_or("missing".into(), Value::to_string);
        Err(WeightsError::Field {
            file: self.path.clone(),
            field: field.to_owned(),
            found,
            wanted,
        })
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
            ("hidden_act", json!("gelu")),
            ("sliding_window", json!(63)),
            ("layer_types", json!(["full_attention", "sliding_attention"])),
            ("hidden_size", json!(0)),
            ("vocab_size", json!(-1)),
            ("num_key_value_heads", json!(3)),
            ("head_dim", json!(7)),
            ("rms_norm_eps", json!("small")),
            ("attention_bias", json!(1)),
            ("rope_theta", json!(0)),
            ("rope_scaling", json!("linear")),
            ("auto_map", json!({"a": "b"})),
            ("quantization_config", json!({})),
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
