//! What endpoints were like.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// `GET /manage/endpoints/{name}/history`: what an endpoint's replicas were like, over and over.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct History {
    /// Seconds that each point spans.
    pub span: u32,
    /// The points, oldest first; none for the time when the service did not run.
    pub points: Vec<HistoryPoint>,
}

/// The measurements of a replica over a stretch of time; durations in seconds, absent where there were none.
#[derive(Clone, Debug, Default, PartialEq, Deserialize, Serialize, ToSchema)]
pub struct HistoryPoint {
    /// The number of its release; zero for the time before releases.
    pub release: u32,
    /// The replica.
    pub replica: u32,
    /// Which of its lives.
    pub incarnation: u64,
    /// The device.
    pub device: String,
    /// Whether that stands in for hardware that is not here.
    pub simulated: bool,
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
    /// The share of the time in which it was in a step.
    pub busy_share: f64,
}
