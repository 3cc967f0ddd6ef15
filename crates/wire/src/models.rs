//! `GET /v1/models`.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The models there are.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ModelList {
    /// `list`.
    pub object: String,
    /// The models.
    pub data: Vec<ModelEntry>,
}

/// An endpoint, which callers know as a model: by the name that they put into `model`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ModelEntry {
    /// The name.
    pub id: String,
    /// `model`.
    pub object: String,
    /// When the service was started, in seconds since 1970.
    pub created: u64,
    /// `vastrelay`.
    pub owned_by: String,
    /// Its state: `ready`, `degraded`, `parked` and `starting` answer calls, the last two after a while.
    #[serde(default)]
    pub state: String,
    /// What it answers: `chat` for conversations, `plain` for texts that it continues. Absent while it is not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modes: Option<Vec<String>>,
    /// Most tokens of a prompt and its answer. Absent while it is not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context: Option<usize>,
    /// Whether its device stands in for hardware that is not here. Absent while it is not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub simulated: Option<bool>,
}
