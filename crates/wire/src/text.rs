//! Templates and tokens, without generating: `/text/…`, our own.

use crate::chat::{ChatMessage, MOST_MESSAGES};
use crate::light::list;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// `POST /text/render`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RenderRequest {
    /// Which model.
    pub model: String,
    /// The conversation.
    #[serde(deserialize_with = "list::<MOST_MESSAGES, _, _>")]
    pub messages: Vec<ChatMessage>,
    /// Whether the words after which the model answers are added; yes when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer_start: Option<bool>,
}

/// A conversation as the model gets it.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct RenderAnswer {
    /// The text.
    pub text: String,
    /// Its tokens.
    pub token_ids: Vec<u32>,
}

/// `POST /text/encode` and `POST /text/count`: a text, or a conversation.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EncodeRequest {
    /// Which model.
    pub model: String,
    /// A text, as plain completions take it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Or a conversation, as chat takes it.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "some_list")]
    pub messages: Option<Vec<ChatMessage>>,
}

/// Reads a list of messages, which may be absent but is bounded.
fn some_list<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Option<Vec<ChatMessage>>, D::Error> {
    list::<MOST_MESSAGES, _, _>(deserializer).map(Some)
}

/// A text in tokens.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EncodeAnswer {
    /// The ids.
    pub token_ids: Vec<u32>,
    /// What each stands for; bytes that are no character show as U+FFFD.
    pub tokens: Vec<String>,
}

/// How long a text is.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct CountAnswer {
    /// Its tokens.
    pub tokens: usize,
    /// Most tokens of prompt and answer together.
    pub context: usize,
    /// Tokens left for the answer.
    pub left: usize,
    /// Tokens of the vocabulary.
    pub vocabulary: usize,
}

/// `POST /text/decode`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DecodeRequest {
    /// Which model.
    pub model: String,
    /// Ids of tokens.
    pub token_ids: Vec<u32>,
}

/// Tokens as text.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct DecodeAnswer {
    /// The text, control tokens by their names.
    pub text: String,
}
