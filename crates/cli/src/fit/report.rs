//! What `vastrelay fit` found, for programs.

use serde::Serialize;
use vastrelay_planner::{Fitting, Hardware, Question, SplitFit};

/// Everything.
#[derive(Serialize)]
pub struct FitReport {
    pub model: String,
    pub parameters: usize,
    pub context: usize,
    pub width: usize,
    pub step_budget: usize,
    pub memory_share: f64,
    /// Tokens of a typical prompt and answer.
    pub typical: [usize; 2],
    /// Sequences that have to fit at once.
    pub concurrency: Option<usize>,
    /// Whether it fits in one of the ways below.
    pub fits: bool,
    pub ways: Vec<Way>,
    /// The cheapest of all known devices on which it fits as asked.
    pub cheapest: Option<Cheapest>,
}

/// One way to run it. Sizes in bytes on the device that has most, durations in seconds.
#[derive(Serialize)]
pub struct Way {
    pub device: String,
    pub simulated: bool,
    /// Devices that it spans.
    pub split: usize,
    pub weights: &'static str,
    pub group: Option<usize>,
    pub kv: &'static str,
    /// Why it does not fit; absent where it does.
    pub reason: Option<String>,
    #[serde(flatten)]
    pub fitting: Option<Figures>,
}

#[derive(Serialize)]
pub struct Figures {
    pub memory_limit: usize,
    pub weights_bytes: usize,
    pub workspace_bytes: usize,
    pub process_bytes: usize,
    pub kv_bytes_per_token: usize,
    /// On all devices, because key and value heads are fewer than those.
    pub copied_kv_bytes_per_token: usize,
    pub sequences_of_full_context: usize,
    pub typical_sequences: usize,
    pub predicted: Predicted,
}

/// By the cost model.
#[derive(Serialize)]
pub struct Predicted {
    pub lanes: usize,
    pub ttft: f64,
    pub itl: f64,
    pub tokens_per_second: f64,
    pub price_per_million_tokens: f64,
}

#[derive(Serialize)]
pub struct Cheapest {
    pub device: String,
    pub split: usize,
    pub price_per_hour: f64,
}

impl Way {
    /// Returns what was found for a device and a split.
    pub fn new(question: &Question<'_>, hardware: &dyn Hardware, fit: &SplitFit) -> Way {
        let precisions = question.precisions;
        Way {
            device: hardware.name().to_owned(),
            simulated: hardware.is_simulated(),
            split: fit.split,
            weights: precisions.weights.word(),
            group: precisions.weights.group(),
            kv: precisions.kv.name(),
            reason: fit.verdict.as_ref().err().map(ToString::to_string),
            fitting: fit
                .verdict
                .as_ref()
                .ok()
                .map(|fitting| figures(question, fit.split, fitting)),
        }
    }
}

fn figures(question: &Question<'_>, split: usize, fitting: &Fitting) -> Figures {
    let Fitting { plan, predicted, .. } = fitting;
    Figures {
        memory_limit: plan.budget,
        weights_bytes: plan.weights,
        workspace_bytes: plan.workspace,
        process_bytes: plan.process,
        kv_bytes_per_token: question.placement(split).token_bytes(),
        copied_kv_bytes_per_token: fitting.copied,
        sequences_of_full_context: fitting.full,
        typical_sequences: fitting.usual,
        predicted: Predicted {
            lanes: predicted.lanes,
            ttft: predicted.ttft,
            itl: predicted.itl,
            tokens_per_second: predicted.rate,
            price_per_million_tokens: predicted.million,
        },
    }
}
