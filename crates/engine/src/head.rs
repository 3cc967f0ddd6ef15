//! What one completion has said so far, and whether it is at its end.

use crate::request::{EndReason, GenerationRequest};
use crate::sampling::{Choice, Sampling, Seen, count_seen};
use compact_str::CompactString;
use std::sync::Arc;
use vastrelay_text::stop::Verdict;
use vastrelay_text::{IncrementalDecoder, StopMatcher, TokenPieces};

/// The state of one completion beside the scheduler: text, stop strings, penalties. All of it follows from the request
/// and the tokens accepted so far.
pub struct SequenceHead {
    request: Arc<GenerationRequest>,
    completion: u32,
    decoder: IncrementalDecoder,
    matcher: StopMatcher,
    sampling: Arc<Sampling>,
    /// Tokens that were there, where the settings have penalties, in the order of their ids.
    seen: Arc<Vec<Seen>>,
    /// Tokens that end a completion.
    end_ids: Arc<[u32]>,
    accepted: usize,
}

/// What a token did to a completion.
#[derive(Debug, PartialEq, Eq)]
pub struct Accepted {
    /// Text that may be shown now.
    pub text: CompactString,
    /// Set when this was the last token.
    pub end: Option<EndReason>,
}

impl SequenceHead {
    /// Returns the head of one of a request's completions.
    pub fn new(request: Arc<GenerationRequest>, completion: u32, pieces: Arc<TokenPieces>) -> SequenceHead {
        let mut seen = Vec::new();
        if request.sampling.has_penalties() {
            seen.extend(request.prompt.iter().map(|id| Seen { id: *id, in_output: 0 }));
            seen.sort_unstable_by_key(|seen| seen.id);
            seen.dedup_by_key(|seen| seen.id);
        }
        SequenceHead {
            decoder: IncrementalDecoder::new(pieces, request.answers_apart),
            matcher: StopMatcher::new(request.stop.clone()),
            seen: Arc::new(seen),
            sampling: Arc::new(request.sampling.clone()),
            end_ids: request.end_ids.as_slice().into(),
            accepted: 0,
            completion,
            request,
        }
    }

    /// Takes tokens that were accepted elsewhere; their text was told there.
    pub fn resume(&mut self, ids: &[u32]) {
        for id in ids {
            self.accept(*id);
        }
    }

    /// Returns how the next token is to be chosen.
    pub fn next_choice(&self) -> Choice {
        Choice {
            sampling: self.sampling.clone(),
            completion: self.completion,
            position: self.accepted as u64,
            seen: self.seen.clone(),
            end_ids: self.end_ids.clone(),
            may_end_from: self.request.least_tokens as u64,
            top: self.request.top_logprobs,
        }
    }

    /// Returns whether it may have more tokens.
    pub fn wants_more(&self) -> bool {
        self.accepted < self.request.most_tokens
    }

    /// Takes the next token.
    pub fn accept(&mut self, id: u32) -> Accepted {
        self.accepted += 1;
        if self.sampling.has_penalties() {
            count_seen(&mut self.seen, id);
        }
        if self.request.end_ids.contains(&id) {
            return Accepted {
                text: self.rest(),
                end: Some(EndReason::EndToken),
            };
        }
        let text = self.decoder.push(id);
        match self.matcher.push(&text) {
            Verdict::Stop { before, .. } => Accepted {
                text: before,
                end: Some(EndReason::StopString),
            },
            Verdict::Show(text) if self.accepted == self.request.most_tokens => Accepted {
                text: text + self.rest().as_str(),
                end: Some(EndReason::Length),
            },
            Verdict::Show(text) => Accepted { text, end: None },
        }
    }

    /// Returns the text that was held back, when nothing more comes.
    pub fn rest(&mut self) -> CompactString {
        let tail = self.decoder.finish();
        match self.matcher.push(&tail) {
            Verdict::Stop { before, .. } => before,
            Verdict::Show(text) => text + self.matcher.finish().as_str(),
        }
    }
}
