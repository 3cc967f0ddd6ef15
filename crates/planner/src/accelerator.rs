//! What a model takes on accelerators: on each of those that a replica spans.
//!
//! | part | bytes on one device |
//! |---|---|
//! | weights | each matrix in its precision, with 2 bytes for a scale or a minimum; vectors in 32 bits |
//! | page | 2 · KV heads · 16 tokens · bytes of a head, in each layer |
//! | workspace | step budget · row · 2, and width · vocabulary · 4, and the page tables |
//! | process | what the profile reserves for driver and program |
//!
//! A row of the workspace has four streams of the model's width, queries and what attention makes of them, keys and values, and the inner
//! widths of the MLP or of the experts that a token is sent to; with a split, two more streams for what devices tell one another.

use crate::memory::{PoolSizes, Sizes};
use crate::profile::DeviceProfile;
use vastrelay_weights::description::PAGE_TOKENS;
use vastrelay_weights::description::{AttentionReach, ModelDescription};
use vastrelay_weights::precision::Precisions;
use vastrelay_weights::{Kind, Precision, Shard};

/// Bytes of a scale, or of a minimum.
pub(crate) const SCALE: usize = 2;
/// Bytes of a number in the workspace.
const ACTIVATION: usize = 2;
/// Bytes of a logit, and of a vector's elements.
const FLOAT: usize = 4;
/// Bytes of an entry in a page table.
const ENTRY: usize = 4;

/// A model as it is to run on accelerators.
pub struct Placement<'a> {
    /// The model.
    pub model: &'a ModelDescription,
    /// What each tensor is stored as.
    pub stored: &'a dyn Fn(&str) -> Kind,
    /// What it runs in.
    pub precisions: Precisions,
    /// Devices that the replica spans.
    pub split: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
}

/// A model's weights on one device, by what they are for, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct WeightParts {
    /// The embedding, which may also be the head.
    pub embedding: usize,
    /// A head of its own.
    pub head: usize,
    /// Queries, keys, values and the way out of attention.
    pub attention: usize,
    /// MLPs.
    pub mlp: usize,
    /// Experts and their routers.
    pub experts: usize,
    /// Norms and biases.
    pub vectors: usize,
}

impl WeightParts {
    /// Returns all of them together.
    pub fn total(&self) -> usize {
        self.embedding + self.head + self.attention + self.mlp + self.experts + self.vectors
    }
}

/// The parts of a model's tensors by what they are for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// The embedding.
    Embedding,
    /// The head.
    Head,
    /// Attention's matrices.
    Attention,
    /// An MLP's matrices.
    Mlp,
    /// A router or an expert's matrices.
    Experts,
    /// A norm or a bias.
    Vector,
}

impl Role {
    /// Returns the role of a tensor of a model.
    pub fn of(name: &str, shape: &[usize]) -> Role {
        match name {
            _ if shape.len() < 2 => Role::Vector,
            "model.embed_tokens.weight" => Role::Embedding,
            "lm_head.weight" => Role::Head,
            _ if name.contains(".self_attn.") => Role::Attention,
            _ if name.contains(".experts.") || name.ends_with(".gate.weight") => Role::Experts,
            _ => Role::Mlp,
        }
    }
}

impl Placement<'_> {
    /// Returns what the replica takes of the device that takes most.
    pub fn sizes(&self, profile: &DeviceProfile) -> Sizes {
        let shard = self.largest_shard();
        let page = self.token_bytes_of_layer(&shard) * PAGE_TOKENS;
        let pool = |reach: AttentionReach| PoolSizes {
            reach,
            page: page * reach.layers,
            per_sequence: reach.most_held(self.context, self.step_budget),
        };
        Sizes {
            weights: self.weight_parts().total(),
            workspace: self.workspace(),
            process: profile.reserve.as_u64() as usize,
            pools: self.model.reaches().into_iter().map(pool).collect(),
        }
    }

    /// Returns the weights on the device that has most, by what they are for.
    pub fn weight_parts(&self) -> WeightParts {
        let mut parts = WeightParts::default();
        for (name, shape) in self.largest_shard().tensors() {
            let (role, weights) = (Role::of(&name, &shape), shape.iter().product());
            let bytes = self.kind(&name, role).bytes(weights, SCALE);
            match role {
                Role::Embedding => parts.embedding += bytes,
                Role::Head => parts.head += bytes,
                Role::Attention => parts.attention += bytes,
                Role::Mlp => parts.mlp += bytes,
                Role::Experts => parts.experts += bytes,
                Role::Vector => parts.vectors += FLOAT * weights,
            }
        }
        parts
    }

    /// Returns what a tensor runs in: embeddings, head and routers keep what they are stored in where others have groups.
    pub fn kind(&self, name: &str, role: Role) -> Kind {
        let weights = self.precisions.weights;
        let precision = match role {
            Role::Embedding | Role::Head => weights.of_embeddings(),
            Role::Experts if name.ends_with(".gate.weight") => weights.of_embeddings(),
            Role::Vector => Precision::F32,
            _ => weights,
        };
        (self.stored)(name).in_precision(precision)
    }

    /// Returns the bytes of one token's keys and values on one device.
    pub fn token_bytes(&self) -> usize {
        self.token_bytes_of_layer(&self.largest_shard()) * self.model.layers
    }

    /// Returns how many bytes a token takes on all devices because key and value heads are fewer than devices, and copied.
    pub fn copied_token_bytes(&self) -> usize {
        let once = 2 * self.model.kv_heads * self.precisions.kv.head_bytes(self.model.head_dim) * self.model.layers;
        (self.token_bytes() * self.split).saturating_sub(once)
    }

    fn token_bytes_of_layer(&self, shard: &ModelDescription) -> usize {
        2 * shard.kv_heads * self.precisions.kv.head_bytes(shard.head_dim)
    }

    /// Returns the numbers of a workspace's row on one device.
    pub fn workspace_row(&self) -> usize {
        let shard = self.largest_shard();
        let mlp = match &shard.experts {
            Some(experts) => experts.count + 3 * experts.width * experts.used,
            None => 3 * shard.mlp_width,
        };
        let told = if self.split > 1 { 2 * shard.width } else { 0 };
        4 * shard.width + 2 * shard.heads * shard.head_dim + 2 * shard.kv_heads * shard.head_dim + mlp + told
    }

    /// Returns the bytes of the workspace on one device.
    pub fn workspace(&self) -> usize {
        self.step_budget * self.workspace_row() * ACTIVATION + self.logits() + self.tables()
    }

    /// Returns the bytes of a step's logits on one device.
    pub fn logits(&self) -> usize {
        self.width * self.largest_shard().vocabulary * FLOAT
    }

    /// Returns the bytes of the page tables.
    pub fn tables(&self) -> usize {
        let held = |reach: AttentionReach| reach.most_held(self.context, self.step_budget);
        let pages: usize = self.model.reaches().into_iter().map(held).sum();
        self.width * pages * ENTRY
    }

    /// Returns the part of the model on the device that has most: vocabularies are not always divided evenly.
    pub fn largest_shard(&self) -> ModelDescription {
        let shards = Shard::all(self.split).map(|shard| self.model.of_shard(shard));
        shards
            .max_by_key(|shard| shard.vocabulary)
            .expect("a split has a shard")
    }
}
