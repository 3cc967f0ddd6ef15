//! How long a step takes on accelerators.
//!
//! A step is a few classes of kernels, one after the other. Each takes as long as the slower of two: reading what it reads at the
//! device's bandwidth, or computing what it computes at its peak ("Roofline: An Insightful Visual Performance Model for Multicore
//! Architectures", Williams, Waterman and Patterson, 2009). Starting a kernel takes its time, and so does adding up what the devices of a
//! split have computed, in a ring ("Bandwidth Optimal All-reduce Algorithms for Clusters of Workstations", Patarasuk and Yuan, 2009).

use crate::accelerator::{Placement, Role, SCALE};
use crate::profile::DeviceProfile;
use vastrelay_weights::description::AttentionReach;

/// Kernels of a layer: norm, queries with keys and values, positions, attention, way out, norm, gate and up, down.
const KERNELS_OF_LAYER: usize = 8;
/// Kernels of a step besides: embedding, last norm, head, sampling.
const KERNELS_OF_STEP: usize = 4;
/// Times in a layer that a split adds up.
const SUMS_OF_LAYER: usize = 2;
/// Bytes of a number between kernels.
const ACTIVATION: f64 = 2.0;

/// One sequence's part in a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CostRow {
    /// Tokens that are computed.
    pub tokens: usize,
    /// Tokens before them.
    pub start: usize,
    /// Whether a token is chosen at its end.
    pub chooses: bool,
}

impl CostRow {
    /// Returns the row of a sequence that decodes after so many tokens.
    pub fn decode(start: usize) -> CostRow {
        CostRow {
            tokens: 1,
            start,
            chooses: true,
        }
    }
}

/// Seconds of a step, by what they go into.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct StepCost {
    /// Matrix products of all layers.
    pub matrices: f64,
    /// Attention over pages.
    pub attention: f64,
    /// Logits.
    pub head: f64,
    /// Starting kernels.
    pub launches: f64,
    /// What the devices of a split add up.
    pub sums: f64,
}

impl StepCost {
    /// Returns the seconds of the step.
    pub fn total(&self) -> f64 {
        self.matrices + self.attention + self.head + self.launches + self.sums
    }
}

/// Knows how long a replica's steps take.
pub trait StepTimes {
    /// Returns what a step of these rows costs.
    fn step(&self, rows: &[CostRow]) -> StepCost;
}

/// What a replica's steps cost on devices of one kind.
#[derive(Clone, Debug)]
pub struct CostModel {
    profile: DeviceProfile,
    split: f64,
    layers: usize,
    width: f64,
    /// Matrices that every token goes through.
    dense: Matrices,
    /// One expert's, over all layers that have them.
    expert: Matrices,
    experts: usize,
    experts_used: usize,
    head: Matrices,
    /// Numbers that go in and out of the matrices for each token.
    traffic: f64,
    query_width: f64,
    kv_bytes: f64,
    reaches: Vec<AttentionReach>,
    /// Operations in a second of attention.
    attention_peak: f64,
}

/// Matrices of one precision.
#[derive(Clone, Copy, Debug, Default)]
struct Matrices {
    bytes: f64,
    /// Seconds that a token's products take at the peak.
    seconds: f64,
}

impl Matrices {
    fn add(&mut self, bytes: usize, weights: usize, peak: f64) {
        self.bytes += bytes as f64;
        self.seconds += 2.0 * weights as f64 / peak;
    }
}

impl StepTimes for CostModel {
    fn step(&self, rows: &[CostRow]) -> StepCost {
        let tokens: usize = rows.iter().map(|row| row.tokens).sum();
        if tokens == 0 {
            return StepCost::default();
        }
        let chosen = rows.iter().filter(|row| row.chooses).count();
        let kernels = self.layers * KERNELS_OF_LAYER + KERNELS_OF_STEP;
        StepCost {
            matrices: self.matrices(tokens as f64),
            attention: self.reaches.iter().map(|reach| self.attention(reach, rows)).sum(),
            head: if chosen > 0 {
                self.slower(self.head.bytes, self.head.seconds * chosen as f64)
            } else {
                0.0
            },
            launches: kernels as f64 * self.profile.launch,
            sums: self.sums(tokens as f64),
        }
    }
}

impl CostModel {
    /// Returns the cost of a placement's steps on devices of a kind.
    pub fn new(placement: &Placement<'_>, profile: &DeviceProfile) -> CostModel {
        let shard = placement.largest_shard();
        let (mut dense, mut expert, mut head) = <(Matrices, Matrices, Matrices)>::default();
        let mut traffic = 0;
        let experts = shard.experts.as_ref().map_or(0, |experts| experts.count);
        for (name, shape) in shard.tensors() {
            let (role, weights) = (Role::of(&name, &shape), shape.iter().product());
            let kind = placement.kind(&name, role);
            let (bytes, peak) = (kind.bytes(weights, SCALE), profile.peak_of(kind));
            match role {
                Role::Vector => {}
                // Without a head of its own, a model's embedding is that, too.
                Role::Embedding if !shard.tied_head => {}
                Role::Embedding | Role::Head => head.add(bytes, weights, peak),
                Role::Experts if name.contains(".experts.") => expert.add(bytes, weights, peak),
                Role::Experts | Role::Attention | Role::Mlp => {
                    dense.add(bytes, weights, peak);
                    traffic += shape.iter().sum::<usize>();
                }
            }
        }
        let each = 1.0 / experts.max(1) as f64;
        CostModel {
            profile: profile.clone(),
            split: placement.split as f64,
            layers: shard.layers,
            width: shard.width as f64,
            dense,
            expert: Matrices {
                bytes: expert.bytes * each,
                seconds: expert.seconds * each,
            },
            experts,
            experts_used: shard.experts.as_ref().map_or(0, |experts| experts.used),
            head,
            traffic: traffic as f64,
            query_width: (shard.heads * shard.head_dim) as f64,
            kv_bytes: placement.token_bytes() as f64 / shard.layers as f64,
            reaches: shard.reaches(),
            attention_peak: profile.peak.bf16,
        }
    }

    fn matrices(&self, tokens: f64) -> f64 {
        let (touched, used) = self.experts_of(tokens);
        let bytes = self.dense.bytes + touched * self.expert.bytes + tokens * self.traffic * ACTIVATION;
        let seconds = tokens * (self.dense.seconds + used * self.expert.seconds);
        self.slower(bytes, seconds)
    }

    /// Returns how many experts a step's tokens are expected to touch, and how many each token uses.
    fn experts_of(&self, tokens: f64) -> (f64, f64) {
        if self.experts == 0 {
            return (0.0, 0.0);
        }
        let (count, used) = (self.experts as f64, self.experts_used as f64);
        (count * (1.0 - (1.0 - used / count).powf(tokens)), used)
    }

    /// Returns what attention costs in all layers that see equally far.
    fn attention(&self, reach: &AttentionReach, rows: &[CostRow]) -> f64 {
        let window = reach.window.unwrap_or(usize::MAX);
        let (mut read, mut pairs) = (0.0, 0.0);
        for row in rows {
            let end = row.start + row.tokens;
            read += end.min(window.saturating_add(row.tokens)) as f64;
            // Each token sees those up to itself.
            let (first, last) = ((row.start + 1).min(window) as f64, end.min(window) as f64);
            pairs += row.tokens as f64 * (first + last) / 2.0;
        }
        let layers = reach.layers as f64;
        let operations = 4.0 * self.query_width * pairs;
        layers * self.slower(read * self.kv_bytes, operations / self.attention_peak)
    }

    fn sums(&self, tokens: f64) -> f64 {
        if self.split < 2.0 {
            return 0.0;
        }
        let bytes = tokens * self.width * ACTIVATION;
        let passed = 2.0 * (self.split - 1.0) / self.split * bytes / self.profile.link.bandwidth;
        let waits = 2.0 * (self.split - 1.0) * self.profile.link.delay;
        (self.layers * SUMS_OF_LAYER) as f64 * (passed + waits)
    }

    /// Returns the slower of reading so many bytes and computing for so many seconds.
    fn slower(&self, bytes: f64, seconds: f64) -> f64 {
        (bytes / self.profile.bandwidth).max(seconds)
    }
}
