//! How one kind of answer is put into words.

use serde::Serialize;
use vastrelay_engine::request::Piece;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_wire::sampling::{Measured, Usage};

/// What an answer carries besides its text.
#[derive(Clone, Copy)]
pub(super) struct Extras {
    /// Token ids on every choice.
    pub token_ids: bool,
    /// Figures on every choice.
    pub measured: bool,
    /// Token counts at the end of a stream.
    pub usage_at_end: bool,
}

/// How one kind of answer is put into words.
pub(super) trait Shape {
    /// A piece on the wire.
    type Piece: Serialize;
    /// A whole answer on the wire.
    type Whole: Serialize;

    /// Returns the whole answer.
    fn whole(self, collected: Vec<Collected>, usage: Usage, extras: Extras) -> Self::Whole;

    /// Returns the pieces that come before all others.
    fn opening(&mut self) -> Vec<Self::Piece>;
    /// Returns the pieces that say how probable the tokens of a prompt were; its first completion has read it.
    fn prompt(&mut self, _first_choice: u32, _logprobs: Vec<TokenLogprobs>) -> Vec<Self::Piece> {
        Vec::new()
    }
    /// Returns a piece with nothing but text of a completion.
    fn plain(&self, choice: u32, text: String) -> Self::Piece;
    /// Returns what is new of a completion, or `None` when there is nothing to see yet.
    fn piece(&mut self, new: Piece, extras: Extras) -> Option<Self::Piece>;
    /// Returns a completion's last piece.
    fn end(&mut self, choice: u32, text: String, finish_reason: String, extras: EndExtras) -> Self::Piece;
    /// Returns the piece with the token counts.
    fn usage(&mut self, usage: Usage) -> Self::Piece;
}

/// What a completion's last piece carries besides its text.
pub(super) struct EndExtras {
    /// Its figures, when asked for.
    pub measured: Option<Measured>,
    /// An empty list, when ids were asked for: the ids came with the pieces before.
    pub token_ids: Option<Vec<u32>>,
}

/// One completion, whole.
#[derive(Default)]
pub(super) struct Collected {
    pub text: String,
    pub ids: Vec<u32>,
    pub logprobs: Vec<TokenLogprobs>,
    /// Of the prompt, where it read that and they were asked for.
    pub logprobs_of_prompt: Vec<TokenLogprobs>,
    pub finish_reason: String,
    pub measured: Option<Measured>,
}

impl Collected {
    /// Returns about how many bytes of JSON it comes to.
    pub fn bytes(&self) -> usize {
        let scored = |scored: &[TokenLogprobs]| scored.iter().map(|(_, top)| 100 * (1 + top.len())).sum::<usize>();
        self.text.len() + 8 * self.ids.len() + scored(&self.logprobs) + scored(&self.logprobs_of_prompt)
    }

    /// Returns the mean log-probability of its tokens.
    pub fn mean_logprob(&self) -> f32 {
        let sum: f32 = self.logprobs.iter().map(|(token, _)| token.logprob).sum();
        sum / self.logprobs.len().max(1) as f32
    }
}
