//! A sequence beside its scheduler entry.

use super::frame::CallNumber;
use super::logprobs_of_prompt::LogprobsOfPrompt;
use crate::head::SequenceHead;
use crate::micros::Micros;
use crate::request::{EndReason, RequestMetrics};
use vastrelay_kernels::attention::PAGE_TOKENS;

/// A sequence that has not ended, on the engine's side.
pub(super) struct Live {
    pub call: CallNumber,
    /// The name of its request.
    pub name: String,
    /// Its number among all completions of the call.
    pub choice: u32,
    pub head: SequenceHead,
    /// Until they are told.
    pub logprobs_of_prompt: Option<LogprobsOfPrompt>,
    /// Why its caller wants no more of it.
    pub cancelled: Option<EndReason>,
    pub times: Times,
}

/// When what happened to a sequence, and how much of it.
#[derive(Default)]
pub(super) struct Times {
    arrived: Micros,
    pub admitted: Option<Micros>,
    first_token: Option<Micros>,
    last_token: Option<Micros>,
    largest_gap: Micros,
    prompt_tokens: usize,
    pub reused: usize,
    output_tokens: usize,
    pub preemptions: u32,
}

impl Times {
    /// Returns the times of a sequence that has just arrived, with what it had produced elsewhere.
    pub fn new(arrived: Micros, prompt_tokens: usize, output_tokens: usize) -> Times {
        Times {
            arrived,
            prompt_tokens,
            output_tokens,
            ..Times::default()
        }
    }

    /// Notes a token; returns whether it is the first one.
    pub fn token(&mut self, now: Micros) -> bool {
        let is_first = self.first_token.is_none();
        self.output_tokens += 1;
        if let Some(last) = self.last_token {
            self.largest_gap = self.largest_gap.max(now - last);
        }
        self.first_token.get_or_insert(now);
        self.last_token = Some(now);
        is_first
    }

    /// Returns the figures of a sequence that ends now; one that is wanted for its prompt alone `is_read` by then.
    pub fn metrics(&self, is_read: bool, now: Micros) -> RequestMetrics {
        let between = |from: Option<Micros>, to: Option<Micros>| match (from, to) {
            (Some(from), Some(to)) => to.saturating_sub(from) as f64 / 1e6,
            _ => 0.0,
        };
        let arrived = Some(self.arrived);
        let read = self.first_token.or(is_read.then_some(now));
        let gaps = self.output_tokens.saturating_sub(1);
        let span = between(self.first_token, self.last_token);
        RequestMetrics {
            queued: between(arrived, self.admitted.or(Some(now))),
            prefill: between(self.admitted, read),
            ttft: between(arrived, self.first_token),
            itl_mean: if gaps == 0 { 0.0 } else { span / gaps as f64 },
            itl_max: self.largest_gap as f64 / 1e6,
            total: between(arrived, Some(now)),
            prompt_tokens: self.prompt_tokens,
            reused_tokens: self.reused,
            pages_reused: self.reused / PAGE_TOKENS,
            output_tokens: self.output_tokens,
            preemptions: self.preemptions,
        }
    }
}
