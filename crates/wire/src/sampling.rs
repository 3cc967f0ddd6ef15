//! The fields that chat and plain completions share.

use crate::light::elements;
use serde::de::{Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use utoipa::ToSchema;

/// Most stop strings of a request.
pub const MOST_STOPS: usize = 16;
/// Most biased tokens of a request.
pub const MOST_BIASES: usize = 1_024;

/// One stop string or several.
#[derive(Clone, Debug, Serialize, ToSchema, PartialEq, Eq)]
#[serde(untagged)]
pub enum Stop {
    /// One.
    One(String),
    /// Several.
    Many(Vec<String>),
}

impl<'de> Deserialize<'de> for Stop {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Stop, D::Error> {
        struct Reading;
        impl<'de> Visitor<'de> for Reading {
            type Value = Stop;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "a string or a list of up to {MOST_STOPS} strings")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<Stop, E> {
                Ok(Stop::One(text.to_owned()))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<Stop, A::Error> {
                elements(list, MOST_STOPS).map(Stop::Many)
            }
        }
        deserializer.deserialize_any(Reading)
    }
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

/// `stream_options`; others than this one change how frames look on the way, and are ignored.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct StreamOptions {
    /// Whether a last piece tells the token counts.
    #[serde(default)]
    pub include_usage: Option<bool>,
}

/// Biases on logits by token id, written as a string as the standard has it.
pub type LogitBias = BTreeMap<String, f32>;

/// Reads biases, up to [`MOST_BIASES`].
///
/// # Errors
/// When there are more, or one is no number.
pub(crate) fn biases<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<LogitBias>, D::Error> {
    struct Reading;
    impl<'de> Visitor<'de> for Reading {
        type Value = Option<LogitBias>;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(f, "an object of up to {MOST_BIASES} token ids and biases")
        }

        fn visit_unit<E: Error>(self) -> Result<Option<LogitBias>, E> {
            Ok(None)
        }

        fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Option<LogitBias>, A::Error> {
            let mut biases = LogitBias::new();
            while let Some((id, bias)) = map.next_entry()? {
                if biases.len() == MOST_BIASES {
                    return Err(A::Error::custom(format!("there are more than {MOST_BIASES} biases")));
                }
                biases.insert(id, bias);
            }
            Ok(Some(biases))
        }
    }
    deserializer.deserialize_any(Reading)
}

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
    /// From arrival until the endpoint was started, where it was parked or still starting.
    #[serde(default)]
    pub waiting_for_start: f64,
    /// From then, or else from arrival, to the batch.
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
