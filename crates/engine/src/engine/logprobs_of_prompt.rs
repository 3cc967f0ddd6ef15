//! How probable the tokens of a prompt were, gathered while it is read.

use crate::executor::LogprobsWanted;
use crate::request::GenerationRequest;
use crate::scheduler::PlannedRow;
use crate::token::TokenLogprobs;
use std::sync::Arc;

/// The logprobs of one prompt, as far as they are known: of its second token and those after it.
pub(super) struct LogprobsOfPrompt {
    request: Arc<GenerationRequest>,
    top: usize,
    known: Vec<TokenLogprobs>,
}

impl LogprobsOfPrompt {
    /// Returns the logprobs of a request's prompt, none of them known; `None` where they are not wanted of this completion.
    /// Completions of one prompt share it, so the first one is enough.
    pub fn new(request: &Arc<GenerationRequest>, choice: u32) -> Option<LogprobsOfPrompt> {
        let top = request
            .logprobs_of_prompt
            .filter(|_| choice == 0 && !request.prompt_told)?;
        Some(LogprobsOfPrompt {
            request: request.clone(),
            top,
            known: Vec::new(),
        })
    }

    /// Returns what a row is to tell.
    pub fn scores_of(&self, row: &PlannedRow) -> LogprobsWanted {
        LogprobsWanted {
            next: self.request.prompt.get(row.start + row.tokens).copied(),
            top: self.top,
        }
    }

    /// Takes what a row told. A row may begin before what is known ends: a preemption makes it be read again.
    pub fn take(&mut self, row: &PlannedRow, logprobs: Vec<TokenLogprobs>) {
        let again = self.known.len().checked_sub(row.start);
        let again = again.expect("the scheduler has such prompts read from their beginning");
        self.known.extend(logprobs.into_iter().skip(again));
    }

    /// Returns whether all are known.
    pub fn is_whole(&self) -> bool {
        self.known.len() + 1 == self.request.prompt.len()
    }

    /// Returns those that are known.
    pub fn into_known(self) -> Vec<TokenLogprobs> {
        self.known
    }
}
