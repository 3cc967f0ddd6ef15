//! What the settings of an endpoint cost.

use super::fit::FitPrediction;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// `GET /manage/endpoints/{name}/costs`: what its settings cost, and what others would. Each choice changes one setting and leaves the others.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct EndpointCosts {
    /// Tokens of a typical prompt and answer, of which predictions are made.
    pub typical: [usize; 2],
    /// Whether the speed of its device is known, so that there are predictions.
    pub predicts: bool,
    /// Its settings.
    pub settings: Vec<SettingCosts>,
    /// Why there are none.
    pub why: Option<String>,
}

/// A setting with its choices.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct SettingCosts {
    /// Its key in specs.
    pub key: String,
    /// What it is, and what it could be.
    pub choices: Vec<SettingChoice>,
}

/// A value of a setting.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct SettingChoice {
    /// The value.
    pub value: String,
    /// Whether it is so now.
    pub is_now: bool,
    /// Bytes that a replica would reserve on each device; absent where it would not fit.
    pub reserved: Option<usize>,
    /// Sequences at full context that would run at once.
    pub full_sequences: Option<usize>,
    /// Typical sequences that would run at once.
    pub typical_sequences: Option<usize>,
    /// The prediction for callers of a full batch, where the device's speed is known.
    pub predicted: Option<FitPrediction>,
    /// Why it would not fit.
    pub reason: Option<String>,
}
