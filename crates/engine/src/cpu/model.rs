//! The weights of a model, packed for the kernels.

use super::weights::Joined;
use vastrelay_kernels::rotary::RotaryTable;
use vastrelay_weights::{ModelDescription, Shard};

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
