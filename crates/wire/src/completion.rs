//! `POST /v1/completions`.

use crate::sampling::{Include, LogitBias, Measured, Stop, StreamOptions, Usage};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// A request. Unknown fields are refused by name.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
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
    #[serde(default, skip_serializing_if = "Option::is_none")]
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
    /// A caller's own notes; do not change the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub metadata: Option<Value>,
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
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(
    untagged,
    expecting = "a string, a list of strings, a list of token ids, or a list of such lists"
)]
pub enum Prompt {
    /// One text.
    Text(String),
    /// Several texts.
    Texts(Vec<String>),
    /// One text as token ids.
    Ids(Vec<u32>),
    /// Several texts as token ids.
    IdLists(Vec<Vec<u32>>),
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
