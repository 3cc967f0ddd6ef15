//! The weights of a model, packed for the kernels.

use half::bf16;
use vastrelay_kernels::PackedMatrix;
use vastrelay_kernels::matmul::Dense;
use vastrelay_kernels::rotary::RotaryTable;
use vastrelay_weights::{Checkpoint, ModelDescription, Tensor, WeightsError};

/// All weights, in the precision they are stored in.
pub(super) struct Model {
    pub description: ModelDescription,
    pub embedding: Embedding,
    pub layers: Vec<Layer>,
    pub norm: Vec<f32>,
    pub head: PackedMatrix,
    pub rotary: RotaryTable,
}

/// Where the vectors of tokens come from.
pub(super) enum Embedding {
    /// The output head.
    Tied,
    /// A table of its own, `[vocabulary, width]`.
    F32(Vec<f32>),
    /// The same in bf16.
    Bf16(Vec<bf16>),
}

pub(super) struct Layer {
    pub attention_norm: Vec<f32>,
    /// Queries, keys and values side by side.
    pub qkv: Linear,
    /// Norms of each head's queries and keys, where the family has them.
    pub head_norms: Option<(Vec<f32>, Vec<f32>)>,
    pub output: Linear,
    pub mlp_norm: Vec<f32>,
    /// Gate and up side by side.
    pub gate_up: Linear,
    pub down: Linear,
}

pub(super) struct Linear {
    pub weights: PackedMatrix,
    pub bias: Option<Vec<f32>>,
}

impl Model {
    pub fn pack(checkpoint: &Checkpoint, model: &ModelDescription, context: usize) -> Result<Model, WeightsError> {
        let source = Source { checkpoint, model };
        let (d, f) = (model.width, model.mlp_width);
        let (q, kv) = (model.heads * model.head_dim, model.kv_heads * model.head_dim);
        let layers = (0..model.layers)
            .map(|index| {
                let linear = |parts: &[(&str, usize)], inputs: usize, biased: bool| {
                    let parts: Vec<(String, usize)> = parts
                        .iter()
                        .map(|(name, outputs)| (format!("model.layers.{index}.{name}"), *outputs))
                        .collect();
                    source.linear(&parts, inputs, biased)
                };
                Ok(Layer {
                    attention_norm: source.vector(&format!("model.layers.{index}.input_layernorm.weight"), d)?,
                    qkv: linear(
                        &[
                            ("self_attn.q_proj", q),
                            ("self_attn.k_proj", kv),
                            ("self_attn.v_proj", kv),
                        ],
                        d,
                        model.attention_bias,
                    )?,
                    head_norms: model.head_norm.then(|| source.head_norms(index)).transpose()?,
                    output: linear(&[("self_attn.o_proj", d)], q, model.output_bias)?,
                    mlp_norm: source.vector(&format!("model.layers.{index}.post_attention_layernorm.weight"), d)?,
                    gate_up: linear(&[("mlp.gate_proj", f), ("mlp.up_proj", f)], d, model.mlp_bias)?,
                    down: linear(&[("mlp.down_proj", d)], f, model.mlp_bias)?,
                })
            })
            .collect::<Result<Vec<Layer>, WeightsError>>()?;
        let embedding = checkpoint.tensor("model.embed_tokens.weight", &[model.vocabulary, d])?;
        let (embedding, head) = if model.tied_head {
            (Embedding::Tied, pack(&[embedding], d))
        } else {
            let head = checkpoint.tensor("lm_head.weight", &[model.vocabulary, d])?;
            let table = match embedding {
                Tensor::F32(values) => Embedding::F32(values.into_owned()),
                Tensor::Bf16(values) => Embedding::Bf16(values.into_owned()),
            };
            (table, pack(&[head], d))
        };
        let (frequencies, scale) = model.rotary.frequencies(model.head_dim, context);
        Ok(Model {
            embedding,
            layers,
            norm: source.vector("model.norm.weight", d)?,
            head,
            rotary: RotaryTable::new(&frequencies, context, scale),
            description: model.clone(),
        })
    }

    /// Copies the vector of a token into `row`.
    pub fn embed(&self, token: u32, row: &mut [f32]) {
        let range = token as usize * row.len()..(token as usize + 1) * row.len();
        match &self.embedding {
            Embedding::Tied => self.head.read_row(token as usize, row),
            Embedding::F32(table) => row.copy_from_slice(&table[range]),
            Embedding::Bf16(table) => row
                .iter_mut()
                .zip(&table[range])
                .for_each(|(x, value)| *x = value.to_f32()),
        }
    }

    /// Returns the bytes of all weights.
    pub fn bytes(&self) -> usize {
        let table = match &self.embedding {
            Embedding::Tied => 0,
            Embedding::F32(table) => size_of_val(table.as_slice()),
            Embedding::Bf16(table) => size_of_val(table.as_slice()),
        };
        let vector = |values: &[f32]| size_of_val(values);
        let layer = |layer: &Layer| {
            let linears = [&layer.qkv, &layer.output, &layer.gate_up, &layer.down];
            let linears = linears.map(|l| l.weights.bytes() + l.bias.as_deref().map_or(0, vector));
            let norms = layer.head_norms.as_ref().map_or(0, |(q, k)| vector(q) + vector(k));
            linears.iter().sum::<usize>() + norms + vector(&layer.attention_norm) + vector(&layer.mlp_norm)
        };
        table + self.head.bytes() + vector(&self.norm) + self.layers.iter().map(layer).sum::<usize>()
    }
}

struct Source<'a> {
    checkpoint: &'a Checkpoint,
    model: &'a ModelDescription,
}

impl Source<'_> {
    fn vector(&self, name: &str, len: usize) -> Result<Vec<f32>, WeightsError> {
        Ok(self.checkpoint.tensor(name, &[len])?.to_f32())
    }

    fn head_norms(&self, index: usize) -> Result<(Vec<f32>, Vec<f32>), WeightsError> {
        let norm = |which: &str| {
            self.vector(
                &format!("model.layers.{index}.self_attn.{which}_norm.weight"),
                self.model.head_dim,
            )
        };
        Ok((norm("q")?, norm("k")?))
    }

    fn linear(&self, parts: &[(String, usize)], inputs: usize, biased: bool) -> Result<Linear, WeightsError> {
        debug_assert!(inputs == self.model.width || parts.len() == 1);
        let tensors = parts
            .iter()
            .map(|(name, outputs)| self.checkpoint.tensor(&format!("{name}.weight"), &[*outputs, inputs]))
            .collect::<Result<Vec<Tensor<'_>>, WeightsError>>()?;
        let mut bias = Vec::new();
        if biased {
            for (name, outputs) in parts {
                bias.extend(self.vector(&format!("{name}.bias"), *outputs)?);
            }
        }
        Ok(Linear {
            weights: pack(&tensors, inputs),
            bias: biased.then_some(bias),
        })
    }
}

/// Packs tensors that share their inputs as one matrix, in bf16 when all of them are.
fn pack(tensors: &[Tensor<'_>], inputs: usize) -> PackedMatrix {
    let narrow: Option<Vec<Dense<'_>>> = tensors
        .iter()
        .map(|tensor| match tensor {
            Tensor::Bf16(values) => Some(Dense::Bf16(values)),
            Tensor::F32(_) => None,
        })
        .collect();
    match narrow {
        Some(parts) => PackedMatrix::pack(&parts, inputs),
        None => {
            let wide: Vec<Vec<f32>> = tensors.iter().map(Tensor::to_f32).collect();
            let parts: Vec<Dense<'_>> = wide.iter().map(|values| Dense::F32(values)).collect();
            PackedMatrix::pack(&parts, inputs)
        }
    }
}
