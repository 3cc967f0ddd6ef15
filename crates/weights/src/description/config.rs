//! Reading `config.json`, every field of which is either understood, without effect, or refused.

use super::family::{Activation, ExpertNames, FAMILIES, Family, Windowed};
use super::{Experts, ModelDescription};
use crate::error::WeightsError;
use crate::rope::{RopeScaling, Rotary};
use serde_json::{Map, Value};
use std::path::PathBuf;

/// Fields that change the arithmetic of some families; for others they are refused, unless null.
const FOREIGN: [&str; 11] = [
    "attn_logit_softcapping",
    "final_logit_softcapping",
    "query_pre_attn_scalar",
    "embedding_multiplier",
    "residual_multiplier",
    "attention_multiplier",
    "logits_scaling",
    "num_local_experts",
    "num_experts",
    "use_qk_norm",
    "adapter_path",
];

/// The config as it was read, with the path for errors.
pub(super) struct Fields {
    pub path: PathBuf,
    pub fields: Map<String, Value>,
}

/// More layers than any model has; what is kept for each layer is not allocated for more.
const MOST_LAYERS: usize = 4096;
/// More experts than any model has, over all of its layers.
const MOST_EXPERTS: usize = 1 << 18;

impl Fields {
    /// Returns the model that the config describes.
    ///
    /// # Errors
    /// On the first field that is missing, or that says what cannot be run.
    pub fn describe(&self) -> Result<ModelDescription, WeightsError> {
        let family = self.family()?;
        self.refuse_foreign(family)?;
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
                    format!("without `head_dim` must be a multiple of {heads} heads"),
                );
            }
        };
        if !head_dim.is_multiple_of(2) {
            return self.refuse("head_dim", "rotary positions need an even number".into());
        }
        let context = self.count("max_position_embeddings")?;
        let biased = self.flag("attention_bias")?.unwrap_or(false);
        let layers = self.count("num_hidden_layers")?;
        if layers > MOST_LAYERS {
            return self.refuse(
                "num_hidden_layers",
                format!("must be a whole number from 1 to {MOST_LAYERS}"),
            );
        }
        let experts = family.experts.map(|names| self.experts(names, layers)).transpose()?;
        let mlp_width = match &experts {
            // Some have no MLP beside their experts, and no width for it.
            Some(experts) if self.get("intermediate_size").is_none() => experts.width,
            _ => self.count("intermediate_size")?,
        };
        let windows = self.windows(family, layers, context)?;
        let multiplier = |field: &str| Ok::<f64, WeightsError>(self.above_zero(field)?.unwrap_or(1.0));
        let score_size = self.above_zero("query_pre_attn_scalar")?.or(family.score_size);
        let score_scale = match self.above_zero("attention_multiplier")? {
            Some(scale) => scale,
            None => score_size.unwrap_or(head_dim as f64).sqrt().recip(),
        };
        let embedding_scale = if family.scaled_embedding {
            (width as f64).sqrt()
        } else {
            multiplier("embedding_multiplier")?
        };
        let from_one = self.flag("norms_from_one")?.unwrap_or(family.norms_from_one);
        Ok(ModelDescription {
            architecture: family.name.into(),
            vocabulary: self.count("vocab_size")?,
            width,
            mlp_width,
            layers,
            heads,
            kv_heads,
            head_dim,
            norm_epsilon: self.number("rms_norm_eps")?.unwrap_or(1e-6) as f32,
            context,
            rotary: self.rotary(family, head_dim, context)?,
            tied_head: self.flag("tie_word_embeddings")?.unwrap_or(family.tied_head),
            attention_bias: family.attention_bias.unwrap_or(biased),
            output_bias: family.output_bias.unwrap_or(biased),
            head_norm: family.head_norm,
            mlp_bias: self.flag("mlp_bias")?.unwrap_or(false),
            fused: family.fused,
            activation: self.activation(family)?,
            norms_from_one: from_one,
            after_norms: family.after_norms,
            embedding_scale: embedding_scale as f32,
            residual_scale: multiplier("residual_multiplier")? as f32,
            score_scale: score_scale as f32,
            score_cap: self.cap("attn_logit_softcapping", family.caps.0)?,
            logit_scale: multiplier("logits_scaling")?.recip() as f32,
            logit_cap: self.cap("final_logit_softcapping", family.caps.1)?,
            local_rotary: self.local_rotary(family)?,
            windows,
            experts,
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

    /// Returns how many tokens each layer sees; a window as wide as the context is none.
    fn windows(&self, family: &Family, layers: usize, context: usize) -> Result<Vec<Option<usize>>, WeightsError> {
        let kinds = match self.get("layer_types") {
            Some(kinds) => self.layer_types(kinds, layers)?,
            None => self.usual_windows(family, layers)?,
        };
        if family.windowed == Windowed::Never && kinds.contains(&true) {
            return self.refuse("layer_types", format!("a {} has no layers with windows", family.name));
        }
        let used = match family.windowed {
            Windowed::Later => self.flag("use_sliding_window")?.unwrap_or(false),
            _ => self.flag("use_sliding_window")?.unwrap_or(true),
        };
        let window = match self.get("sliding_window").map_or(family.window, Value::as_u64) {
            Some(0) => return self.refuse("sliding_window", "must be a whole number above 0, or null".into()),
            None if self.get("sliding_window").is_some() => {
                return self.refuse("sliding_window", "must be a whole number above 0, or null".into());
            }
            Some(window) if used && window < context as u64 => window as usize,
            _ => return Ok(vec![None; layers]),
        };
        if family.windowed == Windowed::Never {
            return self.refuse(
                "sliding_window",
                format!(
                    "{} does not support windows; use null, or {context} or more",
                    family.name
                ),
            );
        }
        Ok(kinds.into_iter().map(|windowed| windowed.then_some(window)).collect())
    }

    /// Returns which layers have windows, as the config lists them.
    fn layer_types(&self, kinds: &Value, layers: usize) -> Result<Vec<bool>, WeightsError> {
        let kinds: Option<Vec<bool>> = kinds.as_array().and_then(|kinds| {
            let windowed = |kind: &Value| match kind.as_str()? {
                "full_attention" => Some(false),
                "sliding_attention" => Some(true),
                _ => None,
            };
            kinds.iter().map(windowed).collect()
        });
        match kinds.filter(|kinds| kinds.len() == layers) {
            Some(kinds) => Ok(kinds),
            None => self.refuse(
                "layer_types",
                format!("use \"full_attention\" or \"sliding_attention\" for each of {layers} layers"),
            ),
        }
    }

    /// Returns which layers have windows where the config does not list them.
    fn usual_windows(&self, family: &Family, layers: usize) -> Result<Vec<bool>, WeightsError> {
        let whole = |field: &str, usual: usize| match self.get(field) {
            None => Ok(usual),
            Some(value) => match value.as_u64() {
                Some(number) => Ok(number as usize),
                None => self.refuse(field, "must be a whole number".into()),
            },
        };
        let first = match family.windowed {
            Windowed::Never => layers,
            Windowed::Every => 0,
            Windowed::Later => whole("max_window_layers", 28)?,
            Windowed::AllButEach(n) => {
                let each = whole("sliding_window_pattern", n)?.max(1);
                return Ok((1..=layers).map(|number| !number.is_multiple_of(each)).collect());
            }
        };
        Ok((0..layers).map(|layer| layer >= first).collect())
    }

    fn experts(&self, names: ExpertNames, layers: usize) -> Result<Experts, WeightsError> {
        let count = self.count(names.count)?;
        if count > MOST_EXPERTS / layers {
            let most = MOST_EXPERTS / layers;
            return self.refuse(
                names.count,
                format!("must be a whole number from 1 to {most} for {layers} layers"),
            );
        }
        let used = self.count("num_experts_per_tok")?;
        if used > count {
            return self.refuse("num_experts_per_tok", format!("there are {count} experts"));
        }
        let each = match self.get("decoder_sparse_step") {
            Some(_) => self.count("decoder_sparse_step")?,
            None => 1,
        };
        let without: Vec<u64> = match self
            .get("mlp_only_layers")
            .map(|list| serde_json::from_value(list.clone()))
        {
            None => Vec::new(),
            Some(Ok(list)) => list,
            Some(Err(_)) => return self.refuse("mlp_only_layers", "must be a list of whole numbers".into()),
        };
        Ok(Experts {
            count,
            used,
            width: self.count(names.width)?,
            // Without the field the shares are those of a softmax over the used experts alone, which sum to one.
            normalized: match names.count {
                "num_experts" => self.flag("norm_topk_prob")?.unwrap_or(false),
                _ => true,
            },
            names,
            layers: (0..layers)
                .map(|layer| !without.contains(&(layer as u64)) && (layer + 1).is_multiple_of(each))
                .collect(),
        })
    }

    fn activation(&self, family: &Family) -> Result<Activation, WeightsError> {
        let field = ["hidden_activation", "hidden_act"]
            .into_iter()
            .find(|field| self.get(field).is_some());
        let Some(field) = field else {
            return Ok(family.activation);
        };
        match self.get(field).and_then(Value::as_str) {
            Some("silu") => Ok(Activation::Silu),
            Some("gelu_pytorch_tanh") => Ok(Activation::GeluTanh),
            _ => self.refuse(field, "\"silu\" and \"gelu_pytorch_tanh\" can be run".into()),
        }
    }

    /// Returns a soft cap: null switches it off, a config without it has the family's.
    fn cap(&self, field: &str, usual: Option<f64>) -> Result<Option<f32>, WeightsError> {
        let cap = match self.fields.contains_key(field) {
            true => self.above_zero(field)?,
            false => usual,
        };
        Ok(cap.map(|cap| cap as f32))
    }

    fn above_zero(&self, field: &str) -> Result<Option<f64>, WeightsError> {
        match self.number(field)? {
            Some(number) if number > 0.0 && number.is_finite() => Ok(Some(number)),
            None => Ok(None),
            Some(_) => self.refuse(field, "must be a number above 0".into()),
        }
    }

    fn refuse_foreign(&self, family: &Family) -> Result<(), WeightsError> {
        if self.get("auto_map").is_some() && family.name != "Phi3ForCausalLM" {
            return self.refuse(
                "auto_map",
                "the model needs code shipped with its weights, and such code never runs".into(),
            );
        }
        let foreign = FOREIGN.iter().filter(|field| !family.reads.contains(field));
        if let Some(field) = foreign.into_iter().find(|field| self.get(field).is_some()) {
            return self.refuse(
                field,
                "it changes the computation in an unsupported way; use null".into(),
            );
        }
        if self.number("pretraining_tp")?.is_some_and(|split| split != 1.0) {
            return self.refuse("pretraining_tp", "only 1 can be run".into());
        }
        if self.number("partial_rotary_factor")?.is_some_and(|part| part != 1.0) {
            return self.refuse("partial_rotary_factor", "only 1.0 can be run".into());
        }
        Ok(())
    }

    /// Rotary settings: `rope_theta` and `rope_scaling`, or the newer `rope_parameters` that hold both, for all layers or for
    /// each kind of layer.
    fn rotary(&self, family: &Family, head_dim: usize, context: usize) -> Result<Rotary, WeightsError> {
        let newer = self.get("rope_parameters");
        let newer = newer.and_then(|p| p.get("full_attention")).or(newer);
        let scaling = newer.or_else(|| self.get("rope_scaling"));
        let theta = match newer.and_then(|p| p.get("rope_theta")) {
            Some(theta) => theta.as_f64(),
            None => self.number("rope_theta")?.or(Some(family.theta)),
        };
        let Some(theta) = theta.filter(|theta| *theta > 1.0 && theta.is_finite()) else {
            return self.refuse("rope_theta", "must be a number above 1".into());
        };
        let scaling = match scaling {
            None => RopeScaling::None,
            Some(Value::Object(scaling)) => {
                let mut scaling = scaling.clone();
                // Some have the trained context beside the object.
                if let Some(trained) = self.get("original_max_position_embeddings") {
                    scaling
                        .entry("original_max_position_embeddings")
                        .or_insert_with(|| trained.clone());
                }
                RopeScaling::parse(&scaling, context).map_err(|(field, wanted)| {
                    let found = scaling.get(&field).map_or("missing".into(), Value::to_string);
                    WeightsError::Field {
                        file: self.path.clone(),
                        field: format!("rope_scaling.{field}"),
                        found,
                        wanted,
                    }
                })?
            }
            Some(_) => return self.refuse("rope_scaling", "must be an object or null".into()),
        };
        match &scaling {
            RopeScaling::Long { short, long, .. } if [short.len(), long.len()] != [head_dim / 2; 2] => self.refuse(
                "rope_scaling",
                format!(
                    "both lists have to hold {} divisors, one for each frequency",
                    head_dim / 2
                ),
            ),
            _ => Ok(Rotary { theta, scaling }),
        }
    }

    /// Rotary settings of layers with windows, where they have their own.
    fn local_rotary(&self, family: &Family) -> Result<Option<Rotary>, WeightsError> {
        let Some(usual) = family.local_theta else {
            return Ok(None);
        };
        let newer = self.get("rope_parameters").and_then(|p| p.get("sliding_attention"));
        let theta = match newer.and_then(|p| p.get("rope_theta")) {
            Some(theta) => theta.as_f64(),
            None => self.number("rope_local_base_freq")?.or(Some(usual)),
        };
        match theta.filter(|theta| *theta > 1.0 && theta.is_finite()) {
            Some(theta) => Ok(Some(Rotary {
                theta,
                scaling: RopeScaling::None,
            })),
            None => self.refuse("rope_local_base_freq", "must be a number above 1".into()),
        }
    }

    /// Returns a field, where null counts as absent.
    fn get(&self, field: &str) -> Option<&Value> {
        self.fields.get(field).filter(|value| !value.is_null())
    }

    fn count(&self, field: &str) -> Result<usize, WeightsError> {
        // The bound keeps products of two sizes inside 64 bits.
        match self.get(field).and_then(Value::as_u64) {
            Some(count) if (1..=1 << 28).contains(&count) => Ok(count as usize),
            _ => self.refuse(field, "must be a whole number from 1 to 2^28".into()),
        }
    }

    fn number(&self, field: &str) -> Result<Option<f64>, WeightsError> {
        match self.get(field) {
            None => Ok(None),
            Some(value) => match value.as_f64() {
                Some(number) => Ok(Some(number)),
                None => self.refuse(field, "must be a number".into()),
            },
        }
    }

    fn flag(&self, field: &str) -> Result<Option<bool>, WeightsError> {
        match self.get(field) {
            None => Ok(None),
            Some(Value::Bool(flag)) => Ok(Some(*flag)),
            Some(_) => self.refuse(field, "must be true or false".into()),
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
