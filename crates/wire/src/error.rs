//! The error envelope of the OpenAI wire, used by the management API too.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// `{"error": {…}}`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ErrorEnvelope {
    /// The error.
    pub error: ErrorBody,
}

/// What went wrong.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ErrorBody {
    /// In words: what was asked, what the limit is, what would work.
    pub message: String,
    /// The class: `invalid_request_error`, `rate_limit_error`, `server_error`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The field it is about.
    pub param: Option<String>,
    /// A name for programs.
    pub code: Option<String>,
}
