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
    /// Sampling where a call says nothing. Absent while it is not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub defaults: Option<ModelDefaults>,
    /// Whether its device stands in for hardware that is not here. Absent while it is not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub simulated: Option<bool>,
}

/// Sampling where a call says nothing: as the spec says, or else the files of the model; what neither says is absent or neutral.
#[derive(Clone, Debug, Default, PartialEq, Deserialize, Serialize, ToSchema)]
pub struct ModelDefaults {
    /// Divides the logits; 0 always takes the most probable token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<f32>,
    /// Share of probability to choose among.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_p: Option<f32>,
    /// Number of tokens to choose among.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_k: Option<u32>,
    /// Most tokens of an answer in a conversation; as many as the context has room for when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_tokens: Option<u32>,
}
