//! `POST /v1/completions`.

use crate::light::{Ignored, elements};
use crate::sampling::{Include, LogitBias, Measured, Stop, StreamOptions, Usage, biases};
use serde::de::{Deserializer, Error, SeqAccess, Visitor};
use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// Most prompts in one request.
pub const MOST_PROMPTS: usize = 64;

/// A request. What happens to fields that are not listed here: see [`crate::fields`].
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct CompletionRequest {
    /// Which model.
    pub model: String,
    /// What is to be continued, as it is: no template is applied.
    pub prompt: Prompt,
    /// Whether the text comes in pieces.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<bool>,
    /// What a streamed answer carries besides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream_options: Option<StreamOptions>,
    /// Most tokens of each completion; 16 when absent, as the standard has it. 0 together with `echo`, for the prompt's
    /// log-probabilities alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_tokens: Option<u32>,
    /// Least tokens before a completion may end by itself: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_tokens: Option<u32>,
    /// Completions wanted of each prompt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub n: Option<u32>,
    /// Completions made of each prompt, of which the `n` with the highest mean log-probability are returned; `n` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_of: Option<u32>,
    /// Whether each text begins with its prompt, and the log-probabilities, when asked for, with the prompt's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub echo: Option<bool>,
    /// Text after the completion is not supported; null or an empty string is accepted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suffix: Option<String>,
    /// Divides the logits; 0 is greedy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<f32>,
    /// Least share of probability to choose among.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_p: Option<f32>,
    /// Number of tokens to choose among: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_k: Option<u32>,
    /// Least probability, as a share of the greatest: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_p: Option<f32>,
    /// Divides the logits of tokens that were there: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repetition_penalty: Option<f32>,
    /// Taken from the logits of tokens in the completion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub presence_penalty: Option<f32>,
    /// The same for each time they occur.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frequency_penalty: Option<f32>,
    /// Added to logits, by token id.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "biases")]
    #[schema(value_type = Option<std::collections::BTreeMap<String, f32>>)]
    pub logit_bias: Option<LogitBias>,
    /// Makes sampling repeatable.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<i64>,
    /// Strings that end a completion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<Stop>,
    /// Log-probabilities, with so many alternatives.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<u32>,
    /// What else the answer should carry: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub include: Option<Vec<Include>>,
    /// A caller's own name for its user; does not change the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// A caller's own notes; do not change the answer and are not kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub metadata: Option<Ignored>,
}

impl CompletionRequest {
    /// Returns a request with everything else as the service has it.
    pub fn new(model: String, prompt: Prompt) -> CompletionRequest {
        CompletionRequest {
            model,
            prompt,
            ..CompletionRequest::default()
        }
    }
}

impl Default for Prompt {
    fn default() -> Prompt {
        Prompt::Text(String::new())
    }
}

/// What is to be continued.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[serde(untagged)]
pub enum Prompt {
    /// One text.
    Text(String),
    /// Several texts, up to [`MOST_PROMPTS`].
    Texts(Vec<String>),
    /// One text as token ids.
    Ids(Vec<u32>),
    /// Several texts as token ids, up to [`MOST_PROMPTS`].
    IdLists(Vec<Vec<u32>>),
}

impl Prompt {
    /// Returns the number of prompts.
    pub fn count(&self) -> usize {
        match self {
            Prompt::Text(_) | Prompt::Ids(_) => 1,
            Prompt::Texts(several) => several.len(),
            Prompt::IdLists(several) => several.len(),
        }
    }
}

/// The first element of a list, which says what the others are.
#[derive(Deserialize)]
#[serde(untagged, expecting = "a string, a token id or a list of token ids")]
enum First {
    Text(String),
    Id(u32),
    Ids(Vec<u32>),
}

impl<'de> Deserialize<'de> for Prompt {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Prompt, D::Error> {
        struct Reading;
        impl<'de> Visitor<'de> for Reading {
            type Value = Prompt;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string, a list of strings, a list of token ids, or a list of such lists")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<Prompt, E> {
                Ok(Prompt::Text(text.to_owned()))
            }

            fn visit_string<E: Error>(self, text: String) -> Result<Prompt, E> {
                Ok(Prompt::Text(text))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Prompt, A::Error> {
                let more = MOST_PROMPTS - 1;
                let several = |error: A::Error| match error.to_string().contains("more than") {
                    true => A::Error::custom(format!("the list has more than {MOST_PROMPTS} prompts")),
                    false => error,
                };
                match list.next_element::<First>()? {
                    None => Ok(Prompt::Texts(Vec::new())),
                    Some(First::Text(first)) => {
                        let rest = elements(list, more).map_err(several)?;
                        Ok(Prompt::Texts(std::iter::once(first).chain(rest).collect()))
                    }
                    Some(First::Ids(first)) => {
                        let rest = elements(list, more).map_err(several)?;
                        Ok(Prompt::IdLists(std::iter::once(first).chain(rest).collect()))
                    }
                    Some(First::Id(first)) => {
                        let mut ids = vec![first];
                        while let Some(id) = list.next_element()? {
                            ids.push(id);
                        }
                        Ok(Prompt::Ids(ids))
                    }
                }
            }
        }
        deserializer.deserialize_any(Reading)
    }
}

/// A whole answer.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct CompletionAnswer {
    /// Its name.
    pub id: String,
    /// `text_completion`, streamed or not.
    pub object: String,
    /// Seconds since 1970.
    pub created: u64,
    /// The model as asked for.
    pub model: String,
    /// What answered, where that is no ordinary device: `simulated` and the device's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system_fingerprint: Option<String>,
    /// The completions; of a piece, what is new of one.
    pub choices: Vec<CompletionChoice>,
    /// Token counts; of a stream, on the last piece when asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<Usage>,
}

/// One of the completions.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct CompletionChoice {
    /// The text, or what is new of it.
    pub text: String,
    /// Its number; those of the first prompt come first.
    pub index: u32,
    /// Log-probabilities, or null.
    pub logprobs: Option<CompletionLogprobs>,
    /// `stop` or `length`; null on all pieces but the last.
    pub finish_reason: Option<String>,
    /// Our extension, on request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token_ids: Option<Vec<u32>>,
    /// Our extension, on request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<Measured>,
}

/// Log-probabilities of a completion's tokens, as parallel lists.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct CompletionLogprobs {
    /// The tokens' texts.
    pub tokens: Vec<String>,
    /// Their log-probabilities; null of a prompt's first token, as nothing comes before it.
    pub token_logprobs: Vec<Option<f32>>,
    /// For each the most probable tokens in its place; null of a prompt's first token.
    pub top_logprobs: Vec<Option<std::collections::BTreeMap<String, f32>>>,
    /// Where each begins in the text, in characters.
    pub text_offset: Vec<usize>,
}

impl CompletionLogprobs {
    /// Adds those of the tokens that come next.
    pub fn append(&mut self, next: CompletionLogprobs) {
        self.tokens.extend(next.tokens);
        self.token_logprobs.extend(next.token_logprobs);
        self.top_logprobs.extend(next.top_logprobs);
        self.text_offset.extend(next.text_offset);
    }
}
