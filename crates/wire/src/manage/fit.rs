//! Whether a model fits devices, and what callers would see there.

use super::status::CapacityStatus;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What was found for a model. Sizes in bytes on the device that has most, durations in seconds.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitReport {
    /// The model.
    pub model: String,
    /// Its parameters.
    pub parameters: usize,
    /// Most tokens of a sequence.
    pub context: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in a step.
    pub step_budget: usize,
    /// Fraction of each device's memory that may be taken.
    pub memory_share: f64,
    /// Tokens of a typical prompt and answer.
    pub typical: [usize; 2],
    /// Sequences that have to fit at once.
    pub concurrency: Option<usize>,
    /// Whether it fits in one of the ways below.
    pub fits: bool,
    /// Ways to run it.
    pub ways: Vec<FitWay>,
    /// The cheapest devices on which it fits as asked: of those that were asked for, or of all known ones where it fits none of those.
    pub cheapest: Option<FitCheapest>,
}

/// One way to run a model.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitWay {
    /// The kind of device.
    pub device: String,
    /// Whether it stands in for hardware that is not here.
    pub simulated: bool,
    /// The currency of its prices, where the device's profile names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
    /// Devices that it spans.
    pub split: usize,
    /// The precision of weights.
    pub weights: String,
    /// Weights that share a scale.
    pub group: Option<usize>,
    /// The precision of keys and values.
    pub kv: String,
    /// Why it does not fit; absent where it does.
    pub reason: Option<String>,
    /// What fits; absent where nothing does.
    #[serde(flatten)]
    pub fitting: Option<FitFigures>,
}

/// What fits.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitFigures {
    /// What may be taken.
    pub memory_limit: usize,
    /// Weights.
    pub weights_bytes: usize,
    /// Activations and tables.
    pub workspace_bytes: usize,
    /// What it takes besides.
    pub process_bytes: usize,
    /// KV pages that would be reserved.
    pub kv_pool_bytes: usize,
    /// Keys and values of a token.
    pub kv_bytes_per_token: usize,
    /// Of these, on all devices, what is copied because key and value heads are fewer than devices.
    pub copied_kv_bytes_per_token: usize,
    /// The sequences that run at once, and those that the memory limit could hold.
    pub capacity: CapacityStatus,
    /// The prediction for callers.
    pub predicted: FitPrediction,
}

/// By the cost model: predicted, not measured.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitPrediction {
    /// Callers whose sequences are in the batch.
    pub lanes: usize,
    /// Time to the first token.
    pub ttft: f64,
    /// Time between two tokens, in the middle of all.
    pub itl: f64,
    /// Tokens that all get in a second.
    pub tokens_per_second: f64,
    /// Price of a million output tokens.
    pub price_per_million_tokens: f64,
}

/// The cheapest devices that do.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitCheapest {
    /// The kind of device.
    pub device: String,
    /// How many.
    pub split: usize,
    /// All of them, for an hour.
    pub price_per_hour: f64,
    /// The currency of the price, where the device's profile names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
}

/// `GET /manage/fit`: a model on one kind of device.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitAnswer {
    /// For each number of devices.
    pub report: FitReport,
    /// Most tokens of a sequence that the model supports.
    pub model_context: usize,
    /// The devices.
    pub device: FitDevice,
    /// All devices that can be asked for.
    pub devices: Vec<FitDevice>,
    /// The number of devices that is looked at more closely: the one that was asked for, or the least that does.
    pub chosen: Option<usize>,
    /// The arithmetic of its memory; empty where it does not fit.
    pub memory: Vec<FitTerm>,
    /// What a step's time goes into in which all callers decode.
    pub step: Vec<FitTerm>,
    /// What callers would see when there are more and more of them.
    pub curve: Vec<FitPoint>,
    /// The command that serves it so.
    pub command: Option<String>,
}

/// A kind of device.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitDevice {
    /// What it is called.
    pub name: String,
    /// Whether it stands in for hardware that is not here.
    pub simulated: bool,
    /// How many there are.
    pub count: usize,
    /// Bytes of memory of each.
    pub memory: usize,
    /// The price of one for an hour.
    pub price: f64,
    /// The currency of the price, where its profile names one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
}

/// One line of arithmetic.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitTerm {
    /// What is reckoned.
    pub name: String,
    /// What it comes to.
    pub amount: f64,
    /// Of what: `bytes`, `count` or `seconds`.
    pub unit: String,
    /// How.
    pub formula: String,
}

/// What so many callers would see.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct FitPoint {
    /// How many callers.
    pub concurrency: usize,
    /// What they would see.
    pub predicted: FitPrediction,
}
