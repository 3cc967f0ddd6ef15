//! Steps: passes of a model over its batch.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The newest steps of a replica: what `GET /manage/endpoints/{name}/steps` answers, and an event of `GET /manage/live`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ReplicaSteps {
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The replica.
    pub replica: u32,
    /// Which of its lives; the steps are counted from 1 on in each.
    pub incarnation: u64,
    /// The steps, oldest first.
    pub steps: Vec<Step>,
}

/// One pass of the model over its batch.
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
    /// Why a part of a prompt came before others: it is the `oldest`, the `shortest`, or `aged`, having been passed often.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub order: Option<String>,
}

/// A sequence that came into the batch.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct StepAdmission {
    /// Which sequence.
    pub sequence: u64,
    /// The id of its request.
    pub request: String,
    /// The id that its caller gave in `x-request-id`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given_id: Option<String>,
}
