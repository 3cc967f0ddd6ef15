//! Our own management API under `/manage`.

use serde::{Deserialize, Serialize};

/// `GET /manage/status`.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct ServiceStatus {
    /// The service's version.
    pub version: String,
    /// Seconds since it started.
    pub uptime: f64,
    /// `ready`, `draining` or `failed`.
    pub state: String,
    /// Calls recorded in the database, of all times.
    pub calls_recorded: u64,
    /// The models it serves.
    pub models: Vec<ModelStatus>,
}

/// How one model stands.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct ModelStatus {
    /// The name that callers use.
    pub name: String,
    /// The device, such as `cpu`.
    pub device: String,
    /// Instructions in use, such as `avx512`.
    pub instructions: String,
    /// Cores it owns.
    pub cores: usize,
    /// Parameters.
    pub parameters: usize,
    /// Most sequences in one batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Most tokens of one sequence.
    pub context: usize,
    /// Memory, in bytes.
    pub memory: MemoryStatus,
    /// Sequences at full context that fit into the KV pool.
    pub full_context_sequences: usize,
    /// Sequences accepted and not in the batch.
    pub queue_depth: usize,
    /// Most that may wait.
    pub queue_limit: usize,
    /// Sequences in the batch.
    pub lanes_used: usize,
    /// KV pages held.
    pub pages_used: usize,
    /// KV pages kept for reuse.
    pub pages_cached: usize,
    /// KV pages in all.
    pub pages_total: usize,
    /// Steps so far.
    pub steps: u64,
    /// Prompt tokens computed so far.
    pub prefill_tokens: u64,
    /// Tokens produced so far.
    pub output_tokens: u64,
    /// Completions that ended so far.
    pub ended: u64,
    /// Preemptions so far.
    pub preemptions: u64,
    /// Set when its engine has failed.
    pub failure: Option<String>,
}

/// Memory by owner, in bytes.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct MemoryStatus {
    /// Packed weights.
    pub weights: usize,
    /// The KV pool.
    pub kv_pool: usize,
    /// One page of it.
    pub page: usize,
    /// Tokens in a page.
    pub page_tokens: usize,
    /// Activations and tables.
    pub workspace: usize,
    /// What the replica may take in all.
    pub budget: usize,
    /// What the device has.
    pub device: usize,
}

/// One of `GET /manage/requests`: a call that was answered or refused; durations in seconds.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct RecordedCall {
    /// The request id that the answer's header carried.
    pub id: String,
    /// When it arrived, in milliseconds since 1970.
    pub at_ms: i64,
    /// How long ago that was.
    pub seconds_ago: f64,
    /// `chat` or `completions`.
    pub endpoint: String,
    /// The model as asked for.
    pub model: String,
    /// The HTTP status.
    pub status: u16,
    /// How it ended, or why it was refused.
    pub outcome: String,
    /// Whether the answer came in pieces.
    pub streamed: bool,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the cache.
    pub reused_tokens: usize,
    /// Tokens produced.
    pub output_tokens: usize,
    /// From arrival to the batch.
    pub queued: f64,
    /// From the batch to the first token.
    pub prefill: f64,
    /// From arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens.
    pub itl_mean: f64,
    /// The largest gap.
    pub itl_max: f64,
    /// From arrival to the end.
    pub total: f64,
}
