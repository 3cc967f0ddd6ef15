//! The weights of a model, packed for the kernels.

use super::weights::{Joined, Precision, cut};
use std::collections::HashMap;
use std::ops::Range;
use vastrelay_kernels::rotary::RotaryTable;
use vastrelay_weights::description::Experts;
use vastrelay_weights::rope::Rotary;
use vastrelay_weights::{Build, Checkpoint, GroupWeights, Matrix, ModelDescription, Shard, WeightsError};

/// All weights of a shard, in the precision they execute in.
pub(super) struct Model {
    /// What the shard computes; the same as the whole model where there is one shard.
    pub description: ModelDescription,
    pub shard: Shard,
    /// Tokens of the whole model.
    pub vocabulary: usize,
    pub embedding: Embedding,
    pub layers: Vec<Layer>,
    pub norm: Vec<f32>,
    pub head: Joined,
    pub rotary: RotaryTable,
    /// For layers with windows, where theirs differ.
    pub local_rotary: Option<RotaryTable>,
}

/// Where the vectors of tokens come from.
pub(super) enum Embedding {
    /// The output head.
    Tied,
    /// A table of its own, `[vocabulary, width]`.
    Own(Joined),
}

pub(super) struct Layer {
    pub attention_norm: Vec<f32>,
    /// Queries, keys and values side by side.
    pub qkv: Linear,
    /// Norms of each head's queries and keys, where the family has them.
    pub head_norms: Option<(Vec<f32>, Vec<f32>)>,
    pub output: Linear,
    pub mlp_norm: Vec<f32>,
    pub mlp: Mlp,
    /// Norms of what attention and MLP give, where the family has them.
    pub after_norms: Option<(Vec<f32>, Vec<f32>)>,
}

pub(super) enum Mlp {
    One(GatedMlp),
    Experts {
        /// Gives each expert's logit.
        router: Joined,
        experts: Vec<GatedMlp>,
    },
}

pub(super) struct GatedMlp {
    /// Inner width.
    pub width: usize,
    /// Gate and up side by side.
    pub gate_up: Linear,
    pub down: Linear,
}

pub(super) struct Linear {
    pub weights: Joined,
    pub bias: Option<Vec<f32>>,
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
        let origin = Origin::Checkpoint {
            checkpoint,
            precision,
            rounded,
        };
        Model::open(origin, model, context, shard)
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
        Model::open(Origin::Build(build), model, context, shard)
    }

    fn open(origin: Origin<'_>, model: &ModelDescription, context: usize, shard: Shard) -> Result<Model, WeightsError> {
        let source = Source { origin, model, shard };
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

    /// Returns all matrices.
    pub fn matrices(&self) -> Vec<&Joined> {
        let mut matrices = vec![&self.head];
        if let Embedding::Own(table) = &self.embedding {
            matrices.push(table);
        }
        for layer in &self.layers {
            matrices.extend([&layer.qkv.weights, &layer.output.weights]);
            match &layer.mlp {
                Mlp::One(mlp) => matrices.extend([&mlp.gate_up.weights, &mlp.down.weights]),
                Mlp::Experts { router, experts } => {
                    matrices.push(router);
                    matrices.extend(experts.iter().flat_map(|mlp| [&mlp.gate_up.weights, &mlp.down.weights]));
                }
            }
        }
        matrices
    }

    /// Returns the rotary positions of a layer.
    pub fn rotary_of(&self, layer: usize) -> &RotaryTable {
        match (&self.local_rotary, self.description.windows[layer]) {
            (Some(local), Some(_)) => local,
            _ => &self.rotary,
        }
    }

    /// Copies the vector of a token into `row`, or zeros where another shard has it.
    pub fn embed(&self, token: u32, row: &mut [f32]) {
        let mine = self.shard.range(self.vocabulary);
        if !mine.contains(&(token as usize)) {
            return row.fill(0.0);
        }
        self.look_up(token as usize - mine.start, row);
        let scale = self.description.embedding_scale;
        if scale != 1.0 {
            row.iter_mut().for_each(|x| *x *= scale);
        }
    }

    fn look_up(&self, at: usize, row: &mut [f32]) {
        match &self.embedding {
            Embedding::Tied => self.head.read_row(at, row),
            Embedding::Own(table) => table.read_row(at, row),
        }
    }

    /// Returns the bytes of all weights.
    pub fn bytes(&self) -> usize {
        let table = match &self.embedding {
            Embedding::Tied => 0,
            Embedding::Own(table) => table.bytes(),
        };
        let vector = |values: &[f32]| size_of_val(values);
        let pair = |norms: &Option<(Vec<f32>, Vec<f32>)>| norms.as_ref().map_or(0, |(a, b)| vector(a) + vector(b));
        let linear = |l: &Linear| l.weights.bytes() + l.bias.as_deref().map_or(0, vector);
        let gated = |mlp: &GatedMlp| linear(&mlp.gate_up) + linear(&mlp.down);
        let layer = |layer: &Layer| {
            let mlp = match &layer.mlp {
                Mlp::One(mlp) => gated(mlp),
                Mlp::Experts { router, experts } => router.bytes() + experts.iter().map(gated).sum::<usize>(),
            };
            let norms = vector(&layer.attention_norm) + vector(&layer.mlp_norm);
            let norms = norms + pair(&layer.head_norms) + pair(&layer.after_norms);
            linear(&layer.qkv) + linear(&layer.output) + mlp + norms
        };
        table + self.head.bytes() + vector(&self.norm) + self.layers.iter().map(layer).sum::<usize>()
    }
}

/// Matrices that were rounded before, by the names of their tensors.
pub type Rounded = HashMap<String, GroupWeights>;

/// Where weights come from.
#[derive(Clone, Copy)]
enum Origin<'a> {
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
struct Source<'a> {
    origin: Origin<'a>,
    model: &'a ModelDescription,
    shard: Shard,
}

/// Inputs or outputs of a matrix, and those of them that the shard has.
#[derive(Clone)]
struct Side {
    len: usize,
    mine: Vec<Range<usize>>,
}

impl Side {
    fn whole(len: usize) -> Side {
        Side::of(len, 0..len)
    }

    fn of(len: usize, mine: Range<usize>) -> Side {
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
    fn higher(&self) -> Self {
        let origin = match self.origin {
            Origin::Checkpoint {
                checkpoint,
                precision,
                rounded,
            } => Origin::Checkpoint {
                checkpoint,
                precision: precision.of_embeddings(),
                rounded,
            },
            build => build,
        };
        Source { origin, ..*self }
    }

    fn vector(&self, name: &str, len: usize) -> Result<Vec<f32>, WeightsError> {
        match self.origin {
            Origin::Checkpoint { checkpoint, .. } => Ok(checkpoint.tensor(name, &[len])?.to_f32()),
            Origin::Build(build) => Ok(build.f32(name, len)?.to_vec()),
        }
    }

    /// Reads what the shard has of matrices that share their inputs.
    fn joined(&self, at: &str, parts: &[(&str, Side)], inputs: &Side) -> Result<Joined, WeightsError> {
        let stem = |name: &str| match at {
            "" => name.to_owned(),
            at => format!("{at}.{name}"),
        };
        let names: Vec<&str> = parts.iter().map(|(name, _)| *name).collect();
        let name = stem(&names.join("+"));
        let sides: Vec<Side> = parts.iter().map(|(_, side)| side.clone()).collect();
        let outputs = Side::together(&sides);
        let columns = inputs.mine[0].clone();
        match self.origin {
            Origin::Checkpoint {
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
            Origin::Build(build) => {
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
    fn norm(&self, name: &str, len: usize) -> Result<Vec<f32>, WeightsError> {
        let mut weights = self.vector(name, len)?;
        if self.model.norms_from_one {
            weights.iter_mut().for_each(|weight| *weight += 1.0);
        }
        Ok(weights)
    }

    fn layer(&self, index: usize) -> Result<Layer, WeightsError> {
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
