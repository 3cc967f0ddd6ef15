//! Where the weights of a model come from, and which of them are a shard's.

use super::model::{Embedding, GatedMlp, Layer, Linear, Mlp, Model};
use super::weights::{Joined, cut};
use std::collections::HashMap;
use std::ops::Range;
use vastrelay_kernels::rotary::RotaryTable;
use vastrelay_weights::description::Experts;
use vastrelay_weights::rope::Rotary;
use vastrelay_weights::{Build, Checkpoint, GroupWeights, Matrix, ModelDescription, Precision, Shard, WeightsError};

/// Matrices that were rounded before, by the names of their tensors.
pub type Rounded = HashMap<String, GroupWeights>;

/// Where weights come from.
#[derive(Clone, Copy)]
pub(super) enum WeightFile<'a> {
    /// A checkpoint, turned into a precision.
    Checkpoint {
        checkpoint: &'a Checkpoint,
        precision: Precision,
        /// What takes the place of the checkpoint's own.
        rounded: &'a Rounded,
    },
    /// A build, as it is.
    Build(&'a Build),
}

#[derive(Clone, Copy)]
pub(super) struct Source<'a> {
    pub file: WeightFile<'a>,
    pub model: &'a ModelDescription,
    pub shard: Shard,
}

impl Model {
    /// Turns a checkpoint into a precision; `rounded` takes the place of its own matrices.
    ///
    /// # Errors
    /// When it is not what the description says.
    pub fn of_checkpoint(
        checkpoint: &Checkpoint,
        model: &ModelDescription,
        precision: Precision,
        rounded: &Rounded,
        context: usize,
        shard: Shard,
    ) -> Result<Model, WeightsError> {
        model.check(checkpoint)?;
        let file = WeightFile::Checkpoint {
            checkpoint,
            precision,
            rounded,
        };
        Model::open(file, model, context, shard)
    }

    /// Takes a build's matrices as they lie, or a shard's parts of them.
    ///
    /// # Errors
    /// When it does not hold what the description says.
    pub fn of_build(
        build: &Build,
        model: &ModelDescription,
        context: usize,
        shard: Shard,
    ) -> Result<Model, WeightsError> {
        Model::open(WeightFile::Build(build), model, context, shard)
    }

    fn open(
        file: WeightFile<'_>,
        model: &ModelDescription,
        context: usize,
        shard: Shard,
    ) -> Result<Model, WeightsError> {
        let source = Source { file, model, shard };
        let d = Side::whole(model.width);
        let layers = (0..model.layers)
            .map(|index| source.layer(index))
            .collect::<Result<Vec<Layer>, WeightsError>>()?;
        let higher = source.higher();
        let tokens = Side::of(model.vocabulary, shard.range(model.vocabulary));
        let table = |at: &str, name: &str| higher.joined(at, &[(name, tokens.clone())], &d);
        let (embedding, head) = if model.tied_head {
            (Embedding::Tied, table("model", "embed_tokens")?)
        } else {
            (Embedding::Own(table("model", "embed_tokens")?), table("", "lm_head")?)
        };
        let turns = |rotary: &Rotary| {
            let (frequencies, scale) = rotary.frequencies(model.head_dim, context);
            RotaryTable::new(&frequencies, context, scale)
        };
        Ok(Model {
            embedding,
            layers,
            norm: source.norm("model.norm.weight", model.width)?,
            head,
            rotary: turns(&model.rotary),
            local_rotary: model.local_rotary.as_ref().map(turns),
            description: model.of_shard(shard),
            shard,
            vocabulary: model.vocabulary,
        })
    }
}

/// Inputs or outputs of a matrix, and those of them that the shard has.
#[derive(Clone)]
pub(super) struct Side {
    len: usize,
    mine: Vec<Range<usize>>,
}

impl Side {
    pub fn whole(len: usize) -> Side {
        Side::of(len, 0..len)
    }

    pub fn of(len: usize, mine: Range<usize>) -> Side {
        Side { len, mine: vec![mine] }
    }

    /// Returns several in one.
    fn together(sides: &[Side]) -> Side {
        let mut together = Side {
            len: 0,
            mine: Vec::new(),
        };
        for side in sides {
            let from = together.len;
            together
                .mine
                .extend(side.mine.iter().map(|range| range.start + from..range.end + from));
            together.len += side.len;
        }
        together
    }

    fn mine(&self) -> usize {
        self.mine.iter().map(Range::len).sum()
    }
}

impl Source<'_> {
    /// Returns the source for what stays in the precision that is stored where others have groups.
    pub fn higher(&self) -> Self {
        let file = match self.file {
            WeightFile::Checkpoint {
                checkpoint,
                precision,
                rounded,
            } => WeightFile::Checkpoint {
                checkpoint,
                precision: precision.of_embeddings(),
                rounded,
            },
            build => build,
        };
        Source { file, ..*self }
    }

    fn vector(&self, name: &str, len: usize) -> Result<Vec<f32>, WeightsError> {
        match self.file {
            WeightFile::Checkpoint { checkpoint, .. } => Ok(checkpoint.tensor(name, &[len])?.to_f32()),
            WeightFile::Build(build) => Ok(build.f32(name, len)?.to_vec()),
        }
    }

    /// Reads what the shard has of matrices that share their inputs.
    pub fn joined(&self, at: &str, parts: &[(&str, Side)], inputs: &Side) -> Result<Joined, WeightsError> {
        let stem = |name: &str| match at {
            "" => name.to_owned(),
            at => format!("{at}.{name}"),
        };
        let names: Vec<&str> = parts.iter().map(|(name, _)| *name).collect();
        let name = stem(&names.join("+"));
        let sides: Vec<Side> = parts.iter().map(|(_, side)| side.clone()).collect();
        let outputs = Side::together(&sides);
        let columns = inputs.mine[0].clone();
        match self.file {
            WeightFile::Checkpoint {
                checkpoint,
                precision,
                rounded,
            } => {
                let matrix = |(name, side): &(&str, Side)| {
                    let name = format!("{}.weight", stem(name));
                    match rounded.get(&name) {
                        Some(groups) => Ok(Matrix::Groups(groups.clone())),
                        None => checkpoint.matrix(&name, &[side.len, inputs.len]),
                    }
                };
                let mut matrices = parts
                    .iter()
                    .map(matrix)
                    .collect::<Result<Vec<Matrix<'_>>, WeightsError>>()?;
                if self.shard.of > 1 {
                    let heights: Vec<usize> = sides.iter().map(|side| side.len).collect();
                    matrices = cut(&matrices, &heights, inputs.len, &outputs.mine, &columns);
                }
                Ok(Joined::pack(name, matrices, inputs.mine(), precision))
            }
            WeightFile::Build(build) => {
                let whole = Joined::read(name.clone(), build, inputs.len, outputs.len)?;
                if self.shard.of == 1 {
                    return Ok(whole);
                }
                let (matrices, heights) = whole.unpack();
                let parts = cut(&matrices, &heights, inputs.len, &outputs.mine, &columns);
                Ok(Joined::pack(name, parts, inputs.mine(), Precision::AsStored))
            }
        }
    }

    /// Returns the weights of a norm, as what its rows are multiplied with.
    pub fn norm(&self, name: &str, len: usize) -> Result<Vec<f32>, WeightsError> {
        let mut weights = self.vector(name, len)?;
        if self.model.norms_from_one {
            weights.iter_mut().for_each(|weight| *weight += 1.0);
        }
        Ok(weights)
    }

    pub fn layer(&self, index: usize) -> Result<Layer, WeightsError> {
        let (model, shard) = (self.model, self.shard);
        let d = Side::whole(model.width);
        let of_heads = |heads: usize, mine: Range<usize>| {
            Side::of(
                heads * model.head_dim,
                mine.start * model.head_dim..mine.end * model.head_dim,
            )
        };
        let q = of_heads(model.heads, shard.range(model.heads));
        let kv = of_heads(model.kv_heads, shard.kv_heads(model.kv_heads));
        let at = format!("model.layers.{index}");
        let norm = |name: &str| self.norm(&format!("{at}.{name}.weight"), model.width);
        let head_norm = |which: &str| self.norm(&format!("{at}.self_attn.{which}_norm.weight"), model.head_dim);
        let qkv = if model.fused {
            vec![("qkv_proj", Side::together(&[q.clone(), kv.clone(), kv]))]
        } else {
            vec![("q_proj", q.clone()), ("k_proj", kv.clone()), ("v_proj", kv)]
        };
        let names = model.norms();
        Ok(Layer {
            attention_norm: norm(names[0])?,
            mlp_norm: norm(names[1])?,
            after_norms: match names {
                [_, _, attention, mlp] => Some((norm(attention)?, norm(mlp)?)),
                _ => None,
            },
            qkv: self.linear(&format!("{at}.self_attn"), &qkv, &d, model.attention_bias)?,
            head_norms: match model.head_norm {
                true => Some((head_norm("q")?, head_norm("k")?)),
                false => None,
            },
            output: self.back(&format!("{at}.self_attn"), "o_proj", &q, model.output_bias)?,
            mlp: match model.experts_of(index) {
                Some(experts) => self.experts(&at, experts)?,
                None if model.fused => {
                    Mlp::One(self.gated(&format!("{at}.mlp"), &["gate_up_proj", "down_proj"], model.mlp_width)?)
                }
                None => {
                    let names = ["gate_proj", "up_proj", "down_proj"];
                    Mlp::One(self.gated(&format!("{at}.mlp"), &names, model.mlp_width)?)
                }
            },
        })
    }

    fn experts(&self, at: &str, experts: &Experts) -> Result<Mlp, WeightsError> {
        let block = format!("{at}.{}", experts.names.block);
        // Where tokens are sent is decided in the precision that is stored.
        let gate = [("gate", Side::whole(experts.count))];
        let router = self.higher().joined(&block, &gate, &Side::whole(self.model.width))?;
        let expert = |number| {
            self.gated(
                &format!("{block}.experts.{number}"),
                &experts.names.parts,
                experts.width,
            )
        };
        Ok(Mlp::Experts {
            router,
            experts: (0..experts.count)
                .map(expert)
                .collect::<Result<Vec<GatedMlp>, WeightsError>>()?,
        })
    }

    /// Reads an MLP whose last tensor leads back to the stream and whose others lead from it.
    fn gated(&self, at: &str, names: &[&str], width: usize) -> Result<GatedMlp, WeightsError> {
        let (down, inner) = names.split_last().expect("an MLP has tensors");
        let (side, biased) = (Side::of(width, self.shard.range(width)), self.model.mlp_bias);
        // Gate and up, in one tensor or in two.
        let each = Side::together(&vec![side.clone(); 2 / inner.len()]);
        let inner: Vec<(&str, Side)> = inner.iter().map(|name| (*name, each.clone())).collect();
        Ok(GatedMlp {
            width: side.mine(),
            gate_up: self.linear(at, &inner, &Side::whole(self.model.width), biased)?,
            down: self.back(at, down, &side, biased)?,
        })
    }

    /// Reads what leads from divided inputs back to the stream. Its bias is added once, by the first shard.
    fn back(&self, at: &str, name: &str, inputs: &Side, biased: bool) -> Result<Linear, WeightsError> {
        let parts = [(name, Side::whole(self.model.width))];
        self.linear(at, &parts, inputs, biased && self.shard.index == 0)
    }

    fn linear(&self, at: &str, parts: &[(&str, Side)], inputs: &Side, biased: bool) -> Result<Linear, WeightsError> {
        let mut bias = Vec::new();
        if biased {
            for (name, side) in parts {
                let values = self.vector(&format!("{at}.{name}.bias"), side.len)?;
                bias.extend(side.mine.iter().flat_map(|range| &values[range.clone()]));
            }
        }
        Ok(Linear {
            weights: self.joined(at, parts, inputs)?,
            bias: biased.then_some(bias),
        })
    }
}
