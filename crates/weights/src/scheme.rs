//! Checkpoints whose matrices are stored quantized, as `quantization_config` in `config.json` tells, and their exact values.

use crate::error::WeightsError;
use crate::groups::GroupWeights;
use crate::kind::{Kind, SCALED_GROUP, STEP, group_in_memory};
use serde_json::{Map, Value};
use std::path::Path;
use vastrelay_kernels::groups::Bits;

/// How a checkpoint's matrices are stored.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Scheme {
    /// As floats.
    #[default]
    Plain,
    /// 4 bits, a scale and a zero point for each group of inputs ("AWQ: Activation-aware Weight Quantization for LLM
    /// Compression and Acceleration", Lin et al., 2023): `qweight` `[inputs, outputs / 8]`, eight outputs to a word, the even
    /// ones before the odd; `qzeros` alike for each group; `scales` `[groups, outputs]`.
    ActivationAware {
        /// Inputs that share a scale; 0 for all.
        group: usize,
    },
    /// 2, 4 or 8 bits, a scale and a zero point for each group of inputs ("GPTQ: Accurate Post-Training Quantization for
    /// Generative Pre-trained Transformers", Frantar et al., 2022): `qweight` `[inputs · bits / 32, outputs]`, the inputs of a
    /// word from its lowest bits up; `qzeros` `[groups, outputs · bits / 32]`; `scales` `[groups, outputs]`; `g_idx` names each
    /// input's group, where inputs were taken in another order.
    ErrorCompensating {
        /// Bits of a weight.
        bits: u32,
        /// Inputs that share a scale; 0 for all.
        group: usize,
        /// What is added to a stored zero point.
        zero_offset: u32,
    },
    /// 8 bits, float (`F8_E4M3`) or whole (`I8`), times one scale, or one for each output, or for each block.
    Scaled {
        /// Outputs and inputs of a block.
        block: Option<[usize; 2]>,
    },
}

/// What parts of a quantized matrix are called, instead of `weight` or beside it.
pub(crate) const PARTS: [&str; 8] = [
    "qweight",
    "qzeros",
    "scales",
    "g_idx",
    "weight_scale",
    "weight_scale_inv",
    "input_scale",
    "activation_scale",
];

impl Scheme {
    /// Returns how the matrices of a config are stored.
    ///
    /// # Errors
    /// When its `quantization_config` says what cannot be read.
    pub fn of_config(path: &Path, config: &Map<String, Value>) -> Result<Scheme, WeightsError> {
        let field = |field: &str, found: String, wanted: String| WeightsError::Field {
            file: path.to_owned(),
            field: field.to_owned(),
            found,
            wanted,
        };
        match config.get("quantization_config") {
            None | Some(Value::Null) => Ok(Scheme::Plain),
            Some(Value::Object(object)) => Scheme::parse(object).map_err(|(name, wanted)| {
                let found = object.get(&name).map_or("missing".into(), Value::to_string);
                field(&format!("quantization_config.{name}"), found, wanted)
            }),
            Some(other) => Err(field(
                "quantization_config",
                other.to_string(),
                "use an object or null".into(),
            )),
        }
    }

    /// Returns the lossless kind of its matrices with so many inputs, where inputs come in order; `None` for floats, whose width it
    /// does not determine.
    pub fn kind(self, inputs: usize) -> Option<Kind> {
        let groups = |bits, group| match group_in_memory(shared_by(group, inputs), inputs) {
            Some(group) => Kind::Groups {
                bits,
                group,
                minima: true,
            },
            None => Kind::F32,
        };
        match self {
            Scheme::Plain => None,
            Scheme::ActivationAware { group } => Some(groups(Bits::Four, group)),
            Scheme::ErrorCompensating { bits: 8, group, .. } => Some(groups(Bits::Eight, group)),
            Scheme::ErrorCompensating { group, .. } => Some(groups(Bits::Four, group)),
            Scheme::Scaled { block } => Some(Kind::F8 {
                block: block.map_or(SCALED_GROUP, |[_, inputs]| inputs),
            }),
        }
    }

    /// Reads a `quantization_config`.
    ///
    /// # Errors
    /// The field that cannot be used and what would work.
    pub fn parse(object: &Map<String, Value>) -> Result<Scheme, (String, String)> {
        let refuse = |field: &str, wanted: &str| Err((field.to_owned(), wanted.to_owned()));
        let bits = object.get("bits").and_then(Value::as_u64);
        let group = match object.get("group_size").map(Value::as_i64) {
            Some(Some(-1)) => 0,
            Some(Some(group @ 1..=65_536)) if (group as usize).is_multiple_of(STEP) => group as usize,
            None => 128,
            Some(_) => {
                return refuse(
                    "group_size",
                    "must be a multiple of 8, as kernels take them, or -1 for one group",
                );
            }
        };
        match object.get("quant_method").and_then(Value::as_str) {
            Some("awq") if bits != Some(4) => refuse("bits", "only 4 can be run with this method"),
            Some("awq")
                if object
                    .get("version")
                    .is_some_and(|v| !v.as_str().unwrap_or("").eq_ignore_ascii_case("gemm")) =>
            {
                refuse("version", "only the layout \"gemm\" can be run")
            }
            Some("awq") => Ok(Scheme::ActivationAware { group }),
            Some("gptq") => match bits {
                Some(bits @ (2 | 4 | 8)) => Ok(Scheme::ErrorCompensating {
                    bits: bits as u32,
                    group,
                    zero_offset: u32::from(object.get("checkpoint_format").and_then(Value::as_str) != Some("gptq_v2")),
                }),
                _ => refuse("bits", "2, 4 and 8 can be run with this method"),
            },
            Some("fp8" | "fbgemm_fp8" | "int8") => Ok(Scheme::Scaled {
                block: block(object.get("weight_block_size")).ok_or((
                    "weight_block_size".to_owned(),
                    "use two whole numbers above 0".to_owned(),
                ))?,
            }),
            Some("compressed-tensors") => match object.get("format").and_then(Value::as_str) {
                Some("float-quantized" | "int-quantized" | "naive-quantized") => {
                    let groups = object.get("config_groups").and_then(Value::as_object);
                    let weights = groups.and_then(|groups| groups.values().next()?.get("weights"));
                    let structure = weights.and_then(|weights| weights.get("block_structure"));
                    Ok(Scheme::Scaled {
                        block: block(structure).ok_or((
                            "config_groups.weights.block_structure".to_owned(),
                            "use two whole numbers above 0".to_owned(),
                        ))?,
                    })
                }
                _ => refuse(
                    "format",
                    "\"float-quantized\", \"int-quantized\" and \"naive-quantized\" can be run with this method",
                ),
            },
            _ => refuse(
                "quant_method",
                "\"awq\", \"gptq\", \"fp8\", \"fbgemm_fp8\", \"int8\" and \"compressed-tensors\" can be run",
            ),
        }
    }

    /// Returns how many of so many inputs share a scale in the file; all where it does not pack numbers.
    pub(crate) fn shared(self, inputs: usize) -> usize {
        match self {
            Scheme::ActivationAware { group } | Scheme::ErrorCompensating { group, .. } => shared_by(group, inputs),
            Scheme::Plain | Scheme::Scaled { .. } => inputs,
        }
    }
}

/// Returns how many of so many inputs share a scale, given the group size of a config, where 0 is one group for all.
fn shared_by(group: usize, inputs: usize) -> usize {
    if group == 0 { inputs } else { group }
}

/// Returns the sizes of a block: none where there is no field, and nothing where it cannot be used.
fn block(value: Option<&Value>) -> Option<Option<[usize; 2]>> {
    let Some(value) = value.filter(|value| !value.is_null()) else {
        return Some(None);
    };
    let sizes: [usize; 2] = serde_json::from_value(value.clone()).ok()?;
    sizes
        .iter()
        .all(|size| (1..=65_536).contains(size))
        .then_some(Some(sizes))
}

/// The parts of a matrix of small whole numbers.
pub(crate) struct Packed<'a> {
    pub outputs: usize,
    pub inputs: usize,
    pub words: &'a [u32],
    pub zeros: &'a [u32],
    /// `[groups, outputs]`.
    pub scales: &'a [f32],
    /// Each input's group.
    pub group_of: &'a [usize],
}

impl Packed<'_> {
    /// Returns the numbers of activation-aware words: of a weight and of its zero point.
    pub fn activation_aware(&self) -> impl Fn(usize, usize, usize) -> (u32, u32) {
        let columns = self.outputs / 8;
        // Even outputs lie in the lower half of a word.
        let nibble = |word: u32, output: usize| word >> (4 * (output % 8 / 2 + output % 2 * 4)) & 15;
        move |output, input, group| {
            let weight = nibble(self.words[input * columns + output / 8], output);
            (weight, nibble(self.zeros[group * columns + output / 8], output))
        }
    }

    /// Returns the numbers of error-compensating words: of a weight and of its zero point.
    pub fn error_compensating(&self, bits: u32, zero_offset: u32) -> impl Fn(usize, usize, usize) -> (u32, u32) {
        let each = (32 / bits) as usize;
        let mask = ((1u64 << bits) - 1) as u32;
        let columns = self.outputs / each;
        let part = move |word: u32, place: usize| word >> (bits * (place % each) as u32) & mask;
        move |output, input, group| {
            let weight = part(self.words[input / each * self.outputs + output], input);
            let zero = part(self.zeros[group * columns + output / each], output) + zero_offset;
            (weight, zero)
        }
    }

    /// Returns the values `[outputs, inputs]`, given the numbers of an output, an input and its group.
    pub fn values(&self, numbers: impl Fn(usize, usize, usize) -> (u32, u32)) -> Vec<f32> {
        let mut values = Vec::with_capacity(self.outputs * self.inputs);
        for output in 0..self.outputs {
            for input in 0..self.inputs {
                let group = self.group_of[input];
                let (number, zero) = numbers(output, input, group);
                values.push((number as f32 - zero as f32) * self.scales[group * self.outputs + output]);
            }
        }
        values
    }

    /// Returns the matrix as numbers of 4 or 8 bits in groups of `group`, where `shared` inputs that lie side by side share a scale in the
    /// file.
    pub fn groups(
        &self,
        bits: Bits,
        shared: usize,
        group: usize,
        numbers: impl Fn(usize, usize, usize) -> (u32, u32),
    ) -> GroupWeights {
        let count = self.inputs.div_ceil(group);
        let mut out = GroupWeights {
            inputs: self.inputs,
            bits,
            group,
            numbers: Vec::with_capacity(self.outputs * self.inputs),
            scales: Vec::with_capacity(self.outputs * count),
            minima: Some(Vec::with_capacity(self.outputs * count)),
        };
        for output in 0..self.outputs {
            for at in 0..count {
                let inputs = at * group..((at + 1) * group).min(self.inputs);
                let stored = inputs.start / shared;
                let scale = self.scales[stored * self.outputs + output];
                let (_, zero) = numbers(output, inputs.start, stored);
                let row = inputs.map(|input| numbers(output, input, stored).0 as u8);
                out.push(scale, -(zero as f32) * scale, row);
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn parse(value: Value) -> Result<Scheme, String> {
        Scheme::parse(value.as_object().unwrap()).map_err(|(field, _)| field)
    }

    #[test]
    fn methods_are_told_apart_and_unknown_ones_are_named() {
        let gptq = json!({"quant_method": "gptq", "bits": 4, "group_size": -1, "desc_act": true});
        let wanted = Scheme::ErrorCompensating {
            bits: 4,
            group: 0,
            zero_offset: 1,
        };
        assert_eq!(parse(gptq), Ok(wanted));
        assert_eq!(
            parse(json!({"quant_method": "fp8", "weight_block_size": [128, 64]})),
            Ok(Scheme::Scaled { block: Some([128, 64]) })
        );
        for (config, field) in [
            (json!({"quant_method": "other"}), "quant_method"),
            (json!({"quant_method": "gptq", "bits": 3}), "bits"),
            (json!({"quant_method": "awq", "bits": 4, "group_size": 0}), "group_size"),
            (
                json!({"quant_method": "awq", "bits": 4, "group_size": 12}),
                "group_size",
            ),
            (
                json!({"quant_method": "gptq", "bits": 8, "group_size": 100}),
                "group_size",
            ),
            (json!({"quant_method": "awq", "bits": 4, "version": "gemv"}), "version"),
            (
                json!({"quant_method": "fp8", "weight_block_size": [0, 1]}),
                "weight_block_size",
            ),
            (
                json!({"quant_method": "compressed-tensors", "format": "pack-quantized"}),
                "format",
            ),
        ] {
            assert_eq!(parse(config), Err(field.to_owned()));
        }
    }
}
