//! Recorded calls.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// One of `GET /manage/requests`: a call that was answered or refused; durations in seconds.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct RecordedCall {
    /// The request id that the answer's header carried.
    pub id: String,
    /// The id that the caller gave in `x-request-id`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given_id: Option<String>,
    /// When it arrived, in milliseconds since 1970.
    pub at_ms: i64,
    /// How long ago that was.
    pub seconds_ago: f64,
    /// `chat` or `completions`.
    pub operation: String,
    /// The name of the key it came with; empty without one.
    pub caller: String,
    /// The endpoint as asked for.
    pub endpoint: String,
    /// The number of its release; zero for a call that reached none, and for one of the time before releases.
    pub release: u32,
    /// The replica that answered; zero when none did.
    pub replica: u32,
    /// Which of its lives that was.
    pub incarnation: u64,
    /// The device; empty when none was used.
    pub device: String,
    /// Whether that stands in for hardware that is not here.
    pub simulated: bool,
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
    /// How often it went on with another worker.
    #[serde(default)]
    pub moves: usize,
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
    /// How it went from worker to worker.
    pub moves: Vec<CallMove>,
    /// What was said, where the service keeps that.
    pub text: Option<CallText>,
}

/// A call that went on with another worker, as its own was gone.
#[derive(Clone, Debug, Default, PartialEq, Deserialize, Serialize, ToSchema)]
pub struct CallMove {
    /// When, in seconds from its arrival.
    pub after: f64,
    /// The life of the replica that it left.
    pub incarnation: u64,
    /// Tokens that it had by then.
    pub tokens: usize,
    /// Why.
    pub why: String,
}

/// What was said in a call.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct CallText {
    /// The messages or the prompt, as JSON.
    pub prompt: String,
    /// The answer; several completions stand one after the other.
    pub answer: String,
}
