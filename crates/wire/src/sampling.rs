//! The fields that chat and plain completions share.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// One stop string or several.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(untagged, expecting = "a string or a list of strings")]
pub enum Stop {
    /// One.
    One(String),
    /// Several.
    Many(Vec<String>),
}

impl Stop {
    /// Returns the strings as a list.
    pub fn into_list(self) -> Vec<String> {
        match self {
            Stop::One(stop) => vec![stop],
            Stop::Many(stops) => stops,
        }
    }
}

/// What else an answer should carry: our extension.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(rename_all = "snake_case")]
pub enum Include {
    /// The ids of the tokens, on every choice and every streamed piece.
    TokenIds,
    /// The figures that the engine measured, on the answer or its last piece.
    Measured,
}

/// `stream_options`.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(deny_unknown_fields)]
pub struct StreamOptions {
    /// Whether a last piece tells the token counts.
    #[serde(default)]
    pub include_usage: Option<bool>,
}

/// Biases on logits by token id, written as a string as the standard has it.
pub type LogitBias = BTreeMap<String, f32>;

/// Token counts.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct Usage {
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Tokens produced, over all choices.
    pub completion_tokens: usize,
    /// Both.
    pub total_tokens: usize,
    /// Details of the prompt's tokens.
    pub prompt_tokens_details: PromptTokensDetails,
}

/// Details of the prompt's tokens.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct PromptTokensDetails {
    /// Tokens that were found in the cache.
    pub cached_tokens: usize,
}

/// The figures of one completion; durations in seconds.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq)]
pub struct Measured {
    /// From arrival to the batch.
    pub queued: f64,
    /// From the batch to the first token.
    pub prefill: f64,
    /// From arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens.
    pub itl_mean: f64,
    /// The largest gap.
    pub itl_max: f64,
    /// From arrival to the end.
    pub total: f64,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Tokens of the prompt that were found in the cache.
    pub reused_tokens: usize,
    /// KV pages that were found in the cache.
    pub pages_reused: usize,
    /// Tokens produced.
    pub output_tokens: usize,
    /// How often it lost its place in the batch.
    pub preemptions: u32,
    /// Why it ended, more exactly than `finish_reason`.
    pub ended: String,
}
