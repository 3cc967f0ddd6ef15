//! `POST /v1/chat/completions`.

use crate::fields::note;
use crate::light::{Count, Ignored, elements, list};
use crate::sampling::{Include, LogitBias, Measured, Stop, StreamOptions, Usage, biases};
use serde::de::{Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// Most messages of a conversation.
pub const MOST_MESSAGES: usize = 4_096;
/// Most parts of a message.
pub const MOST_PARTS: usize = 4_096;

/// A request. What happens to fields that are not listed here: see [`crate::fields`].
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct ChatRequest {
    /// Which model.
    pub model: String,
    /// The conversation.
    #[serde(deserialize_with = "list::<MOST_MESSAGES, _, _>")]
    pub messages: Vec<ChatMessage>,
    /// Whether the answer comes in pieces.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<bool>,
    /// What a streamed answer carries besides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream_options: Option<StreamOptions>,
    /// Most tokens of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_tokens: Option<u32>,
    /// The newer name of `max_tokens`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_completion_tokens: Option<u32>,
    /// Least tokens before the answer may end by itself: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_tokens: Option<u32>,
    /// Answers wanted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub n: Option<u32>,
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
    /// Taken from the logits of tokens in the answer.
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
    /// Strings that end the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop: Option<Stop>,
    /// Whether log-probabilities are wanted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logprobs: Option<bool>,
    /// Alternatives to report with each token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_logprobs: Option<u32>,
    /// What else the answer should carry: our extension.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub include: Option<Vec<Include>>,
    /// Only the plain text format is supported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub response_format: Option<ResponseFormat>,
    /// Only `["text"]` is supported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub modalities: Option<Vec<Modality>>,
    /// Tools are not supported; an empty list is accepted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<serde_json::Value>>, max_items = 0)]
    pub tools: Option<Count>,
    /// Accepted when it asks for nothing: `"none"` or `"auto"`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_choice: Option<ToolChoice>,
    /// Has no effect without tools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parallel_tool_calls: Option<bool>,
    /// A caller's own name for its user; does not change the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// A caller's own notes; do not change the answer and are not kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub metadata: Option<Ignored>,
    /// Answers are not kept for later retrieval; `true` is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<bool>,
}

/// What an answer is written in.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
pub struct ResponseFormat {
    /// Only plain text is supported.
    #[serde(rename = "type")]
    pub kind: Modality,
}

/// What an answer consists of.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum Modality {
    /// Text.
    Text,
}

/// Whether the model may call tools; there are none.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum ToolChoice {
    /// It may not.
    None,
    /// It may choose.
    Auto,
}

/// One message of a conversation.
#[derive(Clone, Debug, Default, Serialize, ToSchema)]
pub struct ChatMessage {
    /// Who speaks.
    pub role: String,
    /// What is said; null counts as nothing.
    pub content: Option<Content>,
    /// The speaker's name; templates here do not use it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Comes with messages that clients send back; only null is supported.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub refusal: Option<Ignored>,
    /// Comes with messages that clients send back; only null or an empty list is supported.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<serde_json::Value>>)]
    pub tool_calls: Option<Count>,
    /// Tools are not supported; only null is.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub tool_call_id: Option<Ignored>,
    /// Tools are not supported; only null is.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub function_call: Option<Ignored>,
    /// Only text is supported, so only null is.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<serde_json::Value>)]
    pub audio: Option<Ignored>,
    /// Names of other fields, which came along and are not kept.
    #[serde(skip)]
    pub unknown: Vec<String>,
}

/// The fields of a message.
pub const MESSAGE_FIELDS: [&str; 8] = [
    "role",
    "content",
    "name",
    "refusal",
    "tool_calls",
    "tool_call_id",
    "function_call",
    "audio",
];

impl<'de> Deserialize<'de> for ChatMessage {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<ChatMessage, D::Error> {
        struct Reading;
        impl<'de> Visitor<'de> for Reading {
            type Value = ChatMessage;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a message `{\"role\": …, \"content\": …}`")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<ChatMessage, A::Error> {
                let (mut message, mut role) = (ChatMessage::default(), None);
                while let Some(field) = map.next_key::<String>()? {
                    match field.as_str() {
                        "role" => role = Some(map.next_value()?),
                        "content" => message.content = map.next_value()?,
                        "name" => message.name = map.next_value()?,
                        "refusal" => message.refusal = map.next_value()?,
                        "tool_calls" => message.tool_calls = map.next_value()?,
                        "tool_call_id" => message.tool_call_id = map.next_value()?,
                        "function_call" => message.function_call = map.next_value()?,
                        "audio" => message.audio = map.next_value()?,
                        _ => {
                            map.next_value::<IgnoredAny>()?;
                            note(&mut message.unknown, field, &[]);
                        }
                    }
                }
                message.role = role.ok_or_else(|| A::Error::missing_field("role"))?;
                Ok(message)
            }
        }
        deserializer.deserialize_map(Reading)
    }
}

/// What is said, whole or in parts.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[serde(untagged)]
pub enum Content {
    /// Whole.
    Text(String),
    /// In parts.
    Parts(Vec<Part>),
}

impl<'de> Deserialize<'de> for Content {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Content, D::Error> {
        struct Reading;
        impl<'de> Visitor<'de> for Reading {
            type Value = Content;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string or a list of text parts `{\"type\": \"text\", \"text\": …}`")
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<Content, E> {
                Ok(Content::Text(text.to_owned()))
            }

            fn visit_string<E: Error>(self, text: String) -> Result<Content, E> {
                Ok(Content::Text(text))
            }

            fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<Content, A::Error> {
                elements(list, MOST_PARTS).map(Content::Parts)
            }
        }
        deserializer.deserialize_any(Reading)
    }
}

/// A part of what is said.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum Part {
    /// Text.
    Text {
        /// The text.
        text: String,
    },
}

impl Content {
    /// Returns the bytes of its text.
    pub fn bytes(&self) -> usize {
        match self {
            Content::Text(text) => text.len(),
            Content::Parts(parts) => parts.iter().map(|Part::Text { text }| text.len()).sum(),
        }
    }

    /// Returns the text of all parts together.
    pub fn into_text(self) -> String {
        match self {
            Content::Text(text) => text,
            Content::Parts(parts) => parts.into_iter().map(|Part::Text { text }| text).collect(),
        }
    }
}

/// A whole answer.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ChatAnswer {
    /// Its name.
    pub id: String,
    /// `chat.completion`.
    pub object: String,
    /// Seconds since 1970.
    pub created: u64,
    /// The model as asked for.
    pub model: String,
    /// What answered, where that is no ordinary device: `simulated` and the device's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system_fingerprint: Option<String>,
    /// The answers.
    pub choices: Vec<ChatChoice>,
    /// Token counts.
    pub usage: Usage,
}

/// One of the answers.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ChatChoice {
    /// Its number.
    pub index: u32,
    /// What was said.
    pub message: AnswerMessage,
    /// Log-probabilities, or null.
    pub logprobs: Option<ChatLogprobs>,
    /// `stop` or `length`.
    pub finish_reason: String,
    /// Our extension, on request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token_ids: Option<Vec<u32>>,
    /// Our extension, on request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<Measured>,
}

/// What the assistant said.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct AnswerMessage {
    /// `assistant`.
    pub role: String,
    /// The text.
    pub content: String,
    /// Always null.
    pub refusal: Option<String>,
}

/// A piece of a streamed answer.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ChatPiece {
    /// The answer's name.
    pub id: String,
    /// `chat.completion.chunk`.
    pub object: String,
    /// Seconds since 1970.
    pub created: u64,
    /// The model as asked for.
    pub model: String,
    /// What answered, where that is no ordinary device: `simulated` and the device's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system_fingerprint: Option<String>,
    /// What is new; empty on the piece with token counts.
    pub choices: Vec<ChatPieceChoice>,
    /// Token counts, on the last piece when asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usage: Option<Usage>,
}

/// What is new of one of the answers.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ChatPieceChoice {
    /// Its number.
    pub index: u32,
    /// What is new.
    pub delta: Delta,
    /// Log-probabilities, or null.
    pub logprobs: Option<ChatLogprobs>,
    /// Set on its last piece.
    pub finish_reason: Option<String>,
    /// Our extension, on request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token_ids: Option<Vec<u32>>,
    /// Our extension, on request, on the last piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub measured: Option<Measured>,
}

/// What is new of a message.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct Delta {
    /// `assistant`, on the first piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// New text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<String>,
}

/// Log-probabilities of an answer's tokens.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct ChatLogprobs {
    /// One for each token.
    pub content: Vec<ChatLogprob>,
}

/// A token's log-probability and the alternatives.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ChatLogprob {
    /// The token itself.
    #[serde(flatten)]
    pub token: TokenLogprob,
    /// The most probable tokens in its place.
    pub top_logprobs: Vec<TokenLogprob>,
}

/// A token with its log-probability.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct TokenLogprob {
    /// Its text; bytes that are no character show as U+FFFD.
    pub token: String,
    /// Natural logarithm of its probability.
    pub logprob: f32,
    /// Its bytes.
    pub bytes: Vec<u8>,
}
