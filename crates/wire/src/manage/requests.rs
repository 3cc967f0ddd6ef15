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
    /// The message of the error that it ended with; absent where it ended well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
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
    /// How often another worker continued it.
    #[serde(default)]
    pub moves: usize,
    /// From arrival until its endpoint was started, where it was parked or still starting.
    #[serde(default)]
    pub waiting_for_start: f64,
    /// From then, or else from arrival, to the batch.
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

/// The outcomes of calls: how answers ended, and the codes of the errors that refuse or break off a call.
pub const OUTCOMES: [&str; 49] = [
    "answer_too_large",
    "body_too_large",
    "cancelled",
    "client-gone",
    "connection_closed",
    "context_length_exceeded",
    "database_busy",
    "deadline",
    "draining",
    "end-token",
    "endpoint_failed",
    "endpoint_not_served",
    "endpoint_parked",
    "endpoint_starting",
    "endpoint_stopped",
    "engine_stopped",
    "error",
    "expired_key",
    "headers_too_large",
    "internal",
    "interrupted",
    "invalid_json",
    "invalid_request",
    "invalid_value",
    "key_limited",
    "keys_unavailable",
    "length",
    "model_not_found",
    "no_key",
    "not_finite",
    "not_found",
    "not_stored",
    "queue_full",
    "queue_wait",
    "revoked_key",
    "scope_missing",
    "slow-reader",
    "slow_body",
    "starting",
    "stop-string",
    "text_threads_full",
    "too_many_a_minute",
    "too_many_answers",
    "too_many_at_once",
    "too_many_bodies",
    "too_many_connections",
    "unknown_encoding",
    "unknown_field",
    "unknown_key",
];

/// Returns an outcome by its name, in which hyphens and underscores count as the same.
///
/// # Errors
/// The nearest names, where there is no such outcome.
pub fn outcome(name: &str) -> Result<&'static str, String> {
    let plain = |name: &str| name.to_lowercase().replace('-', "_");
    let found = OUTCOMES.iter().find(|known| plain(known) == plain(name));
    found.copied().ok_or_else(|| {
        let alike = |known: &str| strsim::normalized_damerau_levenshtein(&plain(known), &plain(name));
        let mut near: Vec<&str> = OUTCOMES.to_vec();
        near.sort_by(|a, b| alike(b).total_cmp(&alike(a)));
        let short: String = name.chars().take(40).collect();
        format!("`{short}` is no outcome; did you mean {}?", near[..3].join(", "))
    })
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
