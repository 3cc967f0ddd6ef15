//! How well a model foretells a text: what is lost by a precision shows here.

use crate::executor::{BatchRow, Executor, ExecutorError, LogprobsWanted, StepBatch, TableChange, Want, run_step};
use crate::pages::PagePool;
use crate::token::TokenLogprobs;
use vastrelay_kernels::attention::PAGE_TOKENS;

/// Scores the tokens of texts, each from its beginning, in pieces of at most `window` tokens that know nothing of one another.
/// The first token of a piece has no log-probability; each other one has `top` alternatives.
///
/// The executor has to have pages for a window and room for as many tokens in a step.
///
/// # Errors
/// When the device fails.
pub fn likelihoods(
    executor: &mut dyn Executor,
    texts: &[Vec<u32>],
    window: usize,
    top: usize,
    mut on_piece: impl FnMut(usize),
) -> Result<Vec<TokenLogprobs>, ExecutorError> {
    let mut pool = PagePool::new(window.div_ceil(PAGE_TOKENS));
    let pages: Vec<u32> = std::iter::from_fn(|| pool.take()).collect();
    let mut logprobs = Vec::new();
    for piece in texts
        .iter()
        .flat_map(|text| text.chunks(window))
        .filter(|piece| piece.len() > 1)
    {
        let row = BatchRow {
            tokens: piece.into(),
            drafts: 0,
            start: 0,
            slot: 0,
            tables: TableChange::all(vec![pages.clone(); executor.memory().pools]),
            whole: None,
            want: Want::Nothing,
            logprobs: Some(LogprobsWanted { next: None, top }),
        };
        let batch = StepBatch {
            copies: Vec::new(),
            rows: vec![row],
        };
        logprobs.extend(run_step(executor, batch)?.rows.remove(0).logprobs);
        on_piece(piece.len());
    }
    Ok(logprobs)
}

/// Returns the mean loss of tokens, in nats.
pub fn loss(logprobs: &[TokenLogprobs]) -> f64 {
    -logprobs.iter().map(|(token, _)| f64::from(token.logprob)).sum::<f64>() / logprobs.len().max(1) as f64
}

/// How much more one model loses than another on the same text.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LossChange {
    /// In nats a token.
    pub mean: f64,
    /// The standard error of that mean: another text like this one would move it by about as much. It is taken over runs of
    /// [`LossChange::RUN`] tokens, as neighbours resemble each other.
    pub error: f64,
}

impl LossChange {
    /// Tokens that are taken together.
    pub const RUN: usize = 32;

    /// Compares two models' logprobs.
    ///
    /// # Panics
    /// When they did not read the same text.
    pub fn between(before: &[TokenLogprobs], after: &[TokenLogprobs]) -> LossChange {
        assert_eq!(before.len(), after.len(), "logprobs of one text");
        let change = |(before, after): (&TokenLogprobs, &TokenLogprobs)| {
            f64::from(before.0.logprob) - f64::from(after.0.logprob)
        };
        let changes: Vec<f64> = before.iter().zip(after).map(change).collect();
        let mean = changes.iter().sum::<f64>() / changes.len().max(1) as f64;
        let run = |run: &[f64]| run.iter().map(|change| change - mean).sum::<f64>();
        let squares: f64 = changes
            .chunks(LossChange::RUN)
            .map(|changes| run(changes).powi(2))
            .sum();
        LossChange {
            mean,
            error: squares.sqrt() / changes.len().max(1) as f64,
        }
    }
}

/// Returns the share of places in which two models hold the same token for the most likely.
///
/// # Panics
/// When they did not read the same text, or without alternatives.
pub fn agreement(one: &[TokenLogprobs], other: &[TokenLogprobs]) -> f64 {
    assert_eq!(one.len(), other.len(), "logprobs of one text");
    let same = one
        .iter()
        .zip(other)
        .filter(|((_, one), (_, other))| one[0].id == other[0].id)
        .count();
    same as f64 / one.len().max(1) as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::token::TokenLogprob;

    fn logprobs(logprobs: impl Iterator<Item = f32>) -> Vec<TokenLogprobs> {
        let scored = |logprob| (TokenLogprob { id: 0, logprob }, Vec::new());
        logprobs.map(scored).collect()
    }

    #[test]
    fn a_change_everywhere_is_certain_and_one_that_comes_and_goes_is_not() {
        let before = logprobs((0..640).map(|at| -1.0 - at as f32 / 640.0));
        let everywhere = logprobs((0..640).map(|at| -1.5 - at as f32 / 640.0));
        let change = LossChange::between(&before, &everywhere);
        assert!((change.mean - 0.5).abs() < 1e-6 && change.error < 1e-6, "{change:?}");
        // Twenty runs, half of them better by 0.5, half worse: the error of their mean is 0.5 / √20.
        let sign = |at: usize| [0.5, -0.5][at / LossChange::RUN % 2];
        let here_and_there = logprobs((0..640).map(|at| -1.0 - at as f32 / 640.0 + sign(at)));
        let change = LossChange::between(&before, &here_and_there);
        assert!(change.mean.abs() < 1e-6, "{change:?}");
        assert!((change.error - 0.5 / 20f64.sqrt()).abs() < 1e-6, "{change:?}");
    }
}
