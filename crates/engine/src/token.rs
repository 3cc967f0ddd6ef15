//! Tokens, and how likely they were.

use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

/// Tokens of a step: one of them, mostly, which then needs no memory of its own.
pub type Tokens = SmallVec<[u32; 4]>;

/// A token with its probability.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TokenLogprob {
    /// The token.
    pub id: u32,
    /// Natural logarithm of its probability under the model, before sampling settings.
    pub logprob: f32,
}

/// A token with its probability, and the most probable ones in its place.
pub type TokenLogprobs = (TokenLogprob, Vec<TokenLogprob>);
