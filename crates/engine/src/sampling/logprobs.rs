//! How probable tokens are under the model.

use super::{by_logit, highest};
use crate::token::{TokenLogprob, TokenLogprobs};

/// Returns the log-probability of a token under the model, and those of the most probable tokens.
///
/// # Panics
/// When there is no logit for the token.
pub fn logprobs_of(logits: &[f32], id: u32, top: usize) -> TokenLogprobs {
    let total = log_total(logits);
    let logprob = |id: u32| TokenLogprob {
        id,
        logprob: (f64::from(logits[id as usize]) - total) as f32,
    };
    (
        logprob(id),
        most_probable(logits, top).into_iter().map(logprob).collect(),
    )
}

/// Returns the logarithm of the sum of exponentials.
pub(super) fn log_total(logits: &[f32]) -> f64 {
    let top = f64::from(highest(logits));
    logits.iter().map(|logit| (*logit as f64 - top).exp()).sum::<f64>().ln() + top
}

/// Returns the ids of the `count` greatest logits, greatest first.
pub(super) fn most_probable(logits: &[f32], count: usize) -> Vec<u32> {
    let count = count.min(logits.len());
    if count == 0 {
        return Vec::new();
    }
    let mut ids: Vec<u32> = (0..logits.len() as u32).collect();
    if count < ids.len() {
        ids.select_nth_unstable_by(count - 1, |a, b| by_logit(logits, *a, *b));
    }
    ids.truncate(count);
    ids.sort_unstable_by(|a, b| by_logit(logits, *a, *b));
    ids
}
