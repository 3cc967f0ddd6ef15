//! How probable the tokens of a prompt were, gathered while it is read.

use crate::executor::ScoresWanted;
use crate::request::GenerationRequest;
use crate::scheduler::PlannedRow;
use crate::token::Scored;
use std::sync::Arc;

/// The scores of one prompt, as far as they are known: of its second token and those after it.
pub(super) struct PromptScores {
    request: Arc<GenerationRequest>,
    top: usize,
    known: Vec<Scored>,
}

impl PromptScores {
    /// Returns the scores of a request's prompt, none of them known; `None` where they are not wanted of this completion.
    /// Completions of one prompt share it, so the first one is enough.
    pub fn new(request: &Arc<GenerationRequest>, choice: u32) -> Option<PromptScores> {
        let top = request.score_prompt.filter(|_| choice == 0 && !request.prompt_told)?;
        Some(PromptScores {
            request: request.clone(),
            top,
            known: Vec::new(),
        })
    }

    /// Returns what a row is to tell.
    pub fn wanted(&self, row: &PlannedRow) -> ScoresWanted {
        ScoresWanted {
            next: self.request.prompt.get(row.start + row.tokens).copied(),
            top: self.top,
        }
    }

    /// Takes what a row told. A row may begin before what is known ends: a preemption makes it be read again.
    pub fn take(&mut self, row: &PlannedRow, scores: Vec<Scored>) {
        let again = self.known.len().checked_sub(row.start);
        let again = again.expect("the scheduler has such prompts read from their beginning");
        self.known.extend(scores.into_iter().skip(again));
    }

    /// Returns whether all are known.
    pub fn is_whole(&self) -> bool {
        self.known.len() + 1 == self.request.prompt.len()
    }

    /// Returns those that are known.
    pub fn into_known(self) -> Vec<Scored> {
        self.known
    }
}
