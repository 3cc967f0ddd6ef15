//! The settings of a spec for running a model.

use crate::cores::CoreRequest;
use std::time::Duration;
use vastrelay_planner::Typical;
use vastrelay_weights::Precision;
use vastrelay_weights::precision::KvPrecision;

/// Settings of an endpoint; what is absent is left to whoever knows more.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Settings {
    /// Precision of weights.
    pub weights: Option<Precision>,
    /// Precision of keys and values.
    pub kv: Option<KvPrecision>,
    /// Devices, by the names or files of their profiles: the first with room is taken.
    pub devices: Option<Vec<String>>,
    /// Devices, or parts of the processor, that a replica spans.
    pub split: Option<usize>,
    /// Cores of a replica on the processor.
    pub cores: Option<CoreRequest>,
    /// Fraction of a device's memory that a replica may take.
    pub memory_share: Option<f64>,
    /// KV pages.
    pub pages: Option<usize>,
    /// Maximum sequences in a batch.
    pub width: Option<usize>,
    /// Most tokens in a step.
    pub step_budget: Option<usize>,
    /// Most prompt tokens of one sequence in a step.
    pub prefill_chunk: Option<usize>,
    /// Most tokens of a sequence.
    pub context: Option<usize>,
    /// A typical sequence.
    pub typical: Option<Typical>,
    /// Most requests that wait for the batch.
    pub queue_depth: Option<usize>,
    /// Longest that one waits for it.
    pub queue_wait: Option<Duration>,
}

impl Settings {
    /// Returns these settings, and those of `others` where something is absent.
    pub fn or(self, others: &Settings) -> Settings {
        Settings {
            weights: self.weights.or(others.weights),
            kv: self.kv.or(others.kv),
            devices: self.devices.or_else(|| others.devices.clone()),
            split: self.split.or(others.split),
            cores: self.cores.or(others.cores),
            memory_share: self.memory_share.or(others.memory_share),
            pages: self.pages.or(others.pages),
            width: self.width.or(others.width),
            step_budget: self.step_budget.or(others.step_budget),
            prefill_chunk: self.prefill_chunk.or(others.prefill_chunk),
            context: self.context.or(others.context),
            typical: self.typical.or(others.typical),
            queue_depth: self.queue_depth.or(others.queue_depth),
            queue_wait: self.queue_wait.or(others.queue_wait),
        }
    }
}
