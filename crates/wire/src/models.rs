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

/// A model, by the name that callers put into `model`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ModelEntry {
    /// The name.
    pub id: String,
    /// `model`.
    pub object: String,
    /// When it was loaded, in seconds since 1970.
    pub created: u64,
    /// `vastrelay`.
    pub owned_by: String,
}
