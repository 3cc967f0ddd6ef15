//! How well a model foretells a text: what is lost by a precision shows here.

use crate::executor::{Executor, ExecutorError, Row, ScoresWanted, StepBatch, TableChange, Want};
use crate::pages::PagePool;
use crate::request::Scored;
use vastrelay_kernels::attention::PAGE_TOKENS;

/// Scores the tokens of texts, each from its beginning, in pieces of at most `window` tokens that know nothing of one another.
/// The first token of a piece has no score; each other one has `top` alternatives.
///
/// The executor has to have pages for a window and room for as many tokens in a step.
///
/// # Errors
/// When the device fails.
pub fn score(
    executor: &mut dyn Executor,
    texts: &[Vec<u32>],
    window: usize,
    top: usize,
    mut on_piece: impl FnMut(usize),
) -> Result<Vec<Scored>, ExecutorError> {
    let mut pool = PagePool::new(window.div_ceil(PAGE_TOKENS));
    let pages: Vec<u32> = std::iter::from_fn(|| pool.take()).collect();
    let mut scores = Vec::new();
    for piece in texts
        .iter()
        .flat_map(|text| text.chunks(window))
        .filter(|piece| piece.len() > 1)
    {
        let row = Row {
            tokens: piece.into(),
            drafts: 0,
            start: 0,
            slot: 0,
            tables: TableChange::all(vec![pages.clone(); executor.memory().pools]),
            whole: None,
            want: Want::Nothing,
            scores: Some(ScoresWanted { next: None, top }),
        };
        let handle = executor.submit(StepBatch {
            copies: Vec::new(),
            rows: vec![row],
        })?;
        scores.extend(executor.wait(handle)?.rows.remove(0).scores);
        on_piece(piece.len());
    }
    Ok(scores)
}

/// Returns the mean loss of scored tokens, in nats.
pub fn loss(scores: &[Scored]) -> f64 {
    -scores.iter().map(|(token, _)| f64::from(token.logprob)).sum::<f64>() / scores.len().max(1) as f64
}

/// Returns the share of places in which two models hold the same token for the most likely.
///
/// # Panics
/// When they did not score the same text, or without alternatives.
pub fn agreement(one: &[Scored], other: &[Scored]) -> f64 {
    assert_eq!(one.len(), other.len(), "scores of one text");
    let same = one
        .iter()
        .zip(other)
        .filter(|((_, one), (_, other))| one[0].id == other[0].id)
        .count();
    same as f64 / one.len().max(1) as f64
}
