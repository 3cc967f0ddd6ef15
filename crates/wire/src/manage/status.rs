//! How everything stands.

use super::RestingEndpoint;
use serde::{Deserialize, Serialize};
use std::ops::AddAssign;
use utoipa::ToSchema;

/// `GET /manage/status`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ServiceStatus {
    /// The service's version.
    pub version: String,
    /// Seconds since it started.
    pub uptime: f64,
    /// `ready`, `degraded`, `failed` or `draining`.
    pub state: String,
    /// Calls recorded in the database, of all times.
    pub calls_recorded: u64,
    /// Its endpoints that are served, or will be soon.
    pub endpoints: Vec<EndpointStatus>,
    /// Its endpoints that are not.
    #[serde(default)]
    pub resting: Vec<RestingEndpoint>,
    /// Its background loops, such as the loop that parks endpoints.
    #[serde(default)]
    pub loops: Vec<LoopStatus>,
}

/// A background loop of the service.
#[derive(Clone, Debug, Deserialize, PartialEq, Eq, Serialize, ToSchema)]
pub struct LoopStatus {
    /// Its name.
    pub name: String,
    /// Restarts after panics.
    pub restarts: u64,
    /// The text of the last panic.
    pub why: Option<String>,
}

/// How one endpoint stands.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointStatus {
    /// The name that callers use.
    pub name: String,
    /// `ready`, `failed` or `draining`.
    pub state: String,
    /// The number of its release.
    pub release: u32,
    /// The device that its replicas run on, such as `cpu`.
    pub device: String,
    /// Whether that stands in for hardware that is not here: then nothing about speed was measured.
    pub simulated: bool,
    /// What it runs in.
    pub precision: PrecisionStatus,
    /// Parameters of its model.
    pub parameters: usize,
    /// Tokens of the vocabulary.
    pub vocabulary: usize,
    /// Most tokens of one sequence.
    pub context: usize,
    /// How full it is, all replicas together.
    pub occupancy: OccupancyStatus,
    /// What its release has done, over all lives of all replicas.
    pub totals: Totals,
    /// What the last seconds were like.
    pub window: WindowFigures,
    /// Its replicas.
    pub replicas: Vec<ReplicaStatus>,
}

/// What a model runs in.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct PrecisionStatus {
    /// Weights: `as-stored`, `f32`, `bf16`, `int8` or `int4`.
    pub weights: String,
    /// Weights that share a scale, for `int8` and `int4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<usize>,
    /// Keys and values: `f32`, `bf16` or `int8`.
    pub kv: String,
}

/// How one replica stands.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ReplicaStatus {
    /// Its number among those of its endpoint.
    pub replica: u32,
    /// Its state: `ready`, `starting` or `failed`.
    #[serde(default)]
    pub state: String,
    /// What is being done while it starts.
    pub phase: Option<String>,
    /// The number of its life: its uptime and totals began at zero with it. Zero before the first.
    pub incarnation: u64,
    /// The number that the system gave its process, while it has one.
    pub process: Option<u32>,
    /// Seconds since its engine started: the clock of its step records.
    pub uptime: f64,
    /// Instructions in use, such as `avx512-vnni`.
    pub instructions: String,
    /// Cores of the processor that its endpoint holds now; those that nobody has named are shared.
    pub cores: f64,
    /// Threads that it computes with on the processor.
    #[serde(default)]
    pub threads: usize,
    /// Shards that it is divided into.
    pub split: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Memory, in bytes.
    pub memory: MemoryStatus,
    /// The sequences that it can run, and those that its memory limit could hold.
    #[serde(default)]
    pub capacity: CapacityStatus,
    /// How full it is.
    pub occupancy: OccupancyStatus,
    /// Its counts in this life.
    pub totals: Totals,
    /// Why its last life ended, until the next takes requests.
    pub failure: Option<String>,
}

/// The sequences that a replica can run at once, and those that its memory limit could hold.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct CapacityStatus {
    /// Sequences at full context.
    pub full: SequenceRoom,
    /// Sequences of typical length.
    pub typical: SequenceRoom,
    /// KV pages that a full batch at full context needs of the layers that see farthest: a value for `memory.pages`.
    pub full_batch_pages: usize,
    /// Bytes that such a batch needs of the KV pool.
    pub full_batch_bytes: usize,
}

/// How many sequences of so many tokens a replica can run.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct SequenceRoom {
    /// Tokens of each sequence.
    pub tokens: usize,
    /// Sequences that run at once: as many as the KV pool holds, and at most as many as the batch has lanes.
    pub at_once: usize,
    /// Sequences that the KV pool holds.
    pub in_pool: usize,
    /// Further sequences that the rest of the memory limit could hold in a larger pool.
    pub in_rest: usize,
}

/// How full something is.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct OccupancyStatus {
    /// Sequences accepted and not in the batch.
    pub queue_depth: usize,
    /// Most that may wait.
    pub queue_limit: usize,
    /// Sequences in the batch.
    pub lanes_used: usize,
    /// Places in the batch.
    pub lanes: usize,
    /// KV pages held, of the layers that see farthest.
    pub pages_used: usize,
    /// KV pages kept for reuse.
    pub pages_cached: usize,
    /// KV pages in all.
    pub pages: usize,
}

/// What was done so far.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq)]
pub struct Totals {
    /// Steps.
    pub steps: u64,
    /// Seconds that devices were busy.
    pub busy: f64,
    /// Prompt tokens computed.
    pub prefill_tokens: u64,
    /// Tokens produced.
    pub output_tokens: u64,
    /// Completions that ended.
    pub ended: u64,
    /// Preemptions.
    pub preemptions: u64,
}

impl AddAssign for OccupancyStatus {
    fn add_assign(&mut self, other: OccupancyStatus) {
        self.queue_depth += other.queue_depth;
        self.queue_limit += other.queue_limit;
        self.lanes_used += other.lanes_used;
        self.lanes += other.lanes;
        self.pages_used += other.pages_used;
        self.pages_cached += other.pages_cached;
        self.pages += other.pages;
    }
}

impl AddAssign for Totals {
    fn add_assign(&mut self, other: Totals) {
        self.steps += other.steps;
        self.busy += other.busy;
        self.prefill_tokens += other.prefill_tokens;
        self.output_tokens += other.output_tokens;
        self.ended += other.ended;
        self.preemptions += other.preemptions;
    }
}

/// What the last seconds of an endpoint were like.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct WindowFigures {
    /// How many seconds that were.
    pub seconds: f64,
    /// Calls that ended well.
    pub answered: u64,
    /// Calls that were refused or failed.
    pub refused: u64,
    /// Prompt tokens computed, a second.
    pub prefill_rate: f64,
    /// Tokens produced, a second.
    pub output_rate: f64,
    /// Times to first token.
    pub ttft: Spread,
    /// Gaps between tokens.
    pub itl: Spread,
}

/// How durations spread, in seconds; all zero when there were none.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq)]
pub struct Spread {
    /// How many there were.
    pub count: u64,
    /// Median.
    pub p50: f64,
    /// 90th percentile.
    pub p90: f64,
    /// 95th percentile.
    pub p95: f64,
    /// 99th percentile.
    pub p99: f64,
    /// The largest.
    pub max: f64,
}

/// KV pages that some of a model's layers share.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct PoolStatus {
    /// How many tokens these layers see; absent where they see all.
    pub window: Option<usize>,
    /// How many layers.
    pub layers: usize,
    /// Bytes of one page in them.
    pub page: usize,
    /// How many pages.
    pub pages: usize,
}

/// Memory by owner, in bytes.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct MemoryStatus {
    /// Packed weights.
    pub weights: usize,
    /// The KV pools.
    pub kv_pool: usize,
    /// One page in all layers.
    pub page: usize,
    /// Tokens in a page.
    pub page_tokens: usize,
    /// The pools, one for all layers that see equally far; those that see farthest come first.
    pub pools: Vec<PoolStatus>,
    /// Activations and tables.
    pub workspace: usize,
    /// What the replica takes besides.
    pub process: usize,
    /// All of that: what the replica has reserved.
    pub reserved: usize,
    /// How much of it lies in memory by now.
    pub resident: usize,
    /// What the replica may take in all.
    pub budget: usize,
    /// What the device has.
    pub device: usize,
}
