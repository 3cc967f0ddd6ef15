//! Our own management API under `/manage`.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// `GET /manage/status`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
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
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ModelStatus {
    /// The name that callers use.
    pub name: String,
    /// The device, such as `cpu`.
    pub device: String,
    /// Instructions in use, such as `avx512-vnni`.
    pub instructions: String,
    /// Cores it owns.
    pub cores: usize,
    /// Shards that it is divided into.
    pub split: usize,
    /// What its weights are computed in, such as `as-stored`, `bf16` or `int4, groups of 64`.
    pub weights: String,
    /// KV cache precision: `f32`, `bf16` or `int8`.
    pub kv: String,
    /// Parameters.
    pub parameters: usize,
    /// Tokens of the vocabulary.
    pub vocabulary: usize,
    /// Maximum sequences in a batch.
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
    /// KV pages held, of the layers that see farthest.
    pub pages_used: usize,
    /// KV pages kept for reuse.
    pub pages_cached: usize,
    /// KV pages in all.
    pub pages_total: usize,
    /// Steps so far.
    pub steps: u64,
    /// Seconds that the device was busy so far.
    pub busy: f64,
    /// Prompt tokens computed so far.
    pub prefill_tokens: u64,
    /// Tokens produced so far.
    pub output_tokens: u64,
    /// Completions that ended so far.
    pub ended: u64,
    /// Preemptions so far.
    pub preemptions: u64,
    /// What the last seconds were like.
    pub window: WindowFigures,
    /// Seconds since its engine started: the clock of its step records.
    #[serde(default)]
    pub uptime: f64,
    /// Set when its engine has failed.
    pub failure: Option<String>,
}

/// What the last seconds of a model were like.
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

/// One of `GET /manage/models/{name}/steps`: one pass of the model over its batch.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct Step {
    /// Its number, from 1 on.
    pub number: u64,
    /// Seconds since the engine started.
    pub at: f64,
    /// Seconds that it took.
    pub duration: f64,
    /// Who took part.
    pub lanes: Vec<StepLane>,
    /// Who came in.
    pub admitted: Vec<StepAdmission>,
    /// Sequences that lost their place.
    pub preempted: Vec<u64>,
    /// Sequences that waited meanwhile.
    pub waiting: usize,
    /// KV pages held, of the layers that see farthest.
    pub pages_used: usize,
}

/// A lane's part in a step.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct StepLane {
    /// Which lane.
    pub lane: usize,
    /// Whose it was.
    pub sequence: u64,
    /// `prefill` or `decode`.
    pub kind: String,
    /// Tokens processed.
    pub tokens: usize,
    /// Tokens found in the cache, in the step that admitted it.
    pub reused: usize,
}

/// A sequence that came into the batch.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct StepAdmission {
    /// Which sequence.
    pub sequence: u64,
    /// The id of its request.
    pub request: String,
}

/// `POST /manage/models`: a model to be served from now on.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewModel {
    /// The name that callers will use.
    pub name: String,
    /// A folder of weights on the service's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The demo's own weights instead.
    #[serde(default)]
    pub demo: bool,
}

/// `GET /manage/models/{name}/history`: what a model was like, over and over.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct History {
    /// Seconds that each point spans.
    pub span: u32,
    /// The points, oldest first; none for the time when the service did not run.
    pub points: Vec<HistoryPoint>,
}

/// What a model was like over a stretch of time; durations in seconds, absent where there were none.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct HistoryPoint {
    /// When the stretch began, in milliseconds since 1970.
    pub at_ms: i64,
    /// Most sequences that waited.
    pub queue_depth: usize,
    /// Mean lanes in use.
    pub lanes_used: f64,
    /// Most KV pages held.
    pub pages_used: usize,
    /// Prompt tokens computed, a second.
    pub prefill_rate: f64,
    /// Tokens produced, a second.
    pub output_rate: f64,
    /// Calls that ended well.
    pub answered: u64,
    /// Calls that were refused or failed.
    pub refused: u64,
    /// Times to first token: p50, p95, p99.
    pub ttft: Option<[f64; 3]>,
    /// Gaps between tokens: p50, p95, p99.
    pub itl: Option<[f64; 3]>,
}

/// An event of `GET /manage/live`: the steps of a model since the last one.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct LiveSteps {
    /// The model.
    pub model: String,
    /// Its steps, oldest first.
    pub steps: Vec<Step>,
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
    /// What the replica may take in all.
    pub budget: usize,
    /// What the device has.
    pub device: usize,
}

/// One of `GET /manage/requests`: a call that was answered or refused; durations in seconds.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct RecordedCall {
    /// The request id that the answer's header carried.
    pub id: String,
    /// When it arrived, in milliseconds since 1970.
    pub at_ms: i64,
    /// How long ago that was.
    pub seconds_ago: f64,
    /// `chat` or `completions`.
    pub endpoint: String,
    /// The name of the key it came with; empty without one.
    pub caller: String,
    /// The model as asked for.
    pub model: String,
    /// The HTTP status.
    pub status: u16,
    /// How it ended, or why it was refused.
    pub outcome: String,
    /// Whether the caller went away before the end.
    pub client_gone: bool,
    /// Whether the answer came in pieces.
    pub streamed: bool,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the cache.
    pub reused_tokens: usize,
    /// Tokens produced.
    pub output_tokens: usize,
    /// How often it lost its place in the batch.
    pub preemptions: usize,
    /// From arrival to the batch.
    pub queued: f64,
    /// From the batch to the first token.
    pub prefill: f64,
    /// From arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens.
    pub itl_mean: f64,
    /// Their median.
    pub itl_p50: f64,
    /// Their 90th percentile.
    pub itl_p90: f64,
    /// Their 99th percentile.
    pub itl_p99: f64,
    /// The largest gap.
    pub itl_max: f64,
    /// From arrival to the end.
    pub total: f64,
}

/// `GET /manage/requests/{id}`: one call, whole.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct CallDetail {
    /// Its figures.
    pub call: RecordedCall,
    /// The fields of the request, without prompt or messages.
    pub parameters: Value,
    /// Each gap between the tokens of the first completion, in seconds.
    pub gaps: Vec<f64>,
    /// What was said, where the service keeps that.
    pub text: Option<CallText>,
}

/// What was said in a call.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct CallText {
    /// The messages or the prompt, as JSON.
    pub prompt: String,
    /// The answer; several completions stand one after the other.
    pub answer: String,
}

/// One of `GET /manage/runs`: a load test that was kept.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct RunEntry {
    /// Its name.
    pub id: String,
    /// When it began, in milliseconds since 1970.
    pub at_ms: i64,
    /// The whole of it.
    pub run: Value,
}
