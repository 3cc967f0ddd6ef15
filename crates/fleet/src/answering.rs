//! How calls are answered, as far as somebody has said.

use serde::Serialize;
use std::ops::RangeInclusive;
use std::time::Duration;

/// How calls are answered; what is absent is left to the call, the model or the service.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Answering {
    /// What calls are.
    pub mode: Option<Mode>,
    /// The file of a chat template, as it is written: from the spec's folder.
    pub template: Option<String>,
    /// Sampling where a call says nothing.
    pub defaults: Defaults,
    /// Tokens that end an answer, besides the model's own.
    pub stop_tokens: Vec<NamedToken>,
    /// Whether prompts and answers are kept with the records.
    pub keeps_texts: Option<bool>,
    /// Longest that a call waits while no replica takes calls.
    pub longest_wait: Option<Duration>,
    /// Longest that an answer may take from the call's arrival.
    pub longest_answer: Option<Duration>,
}

/// A token: its number or its text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub enum NamedToken {
    /// Its number.
    Id(u32),
    /// Its text.
    Text(String),
}

/// What calls are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum Mode {
    /// Conversations.
    Chat,
    /// Texts that are continued.
    Plain,
}

/// Sampling where a call says nothing.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Defaults {
    /// In [`TEMPERATURES`].
    pub temperature: Option<f32>,
    /// In [`SHARES`].
    pub top_p: Option<f32>,
    /// From 1 on.
    pub top_k: Option<u32>,
    /// In [`SHARES`].
    pub min_p: Option<f32>,
    /// In [`REPETITION_PENALTIES`].
    pub repetition_penalty: Option<f32>,
    /// In [`PENALTIES`].
    pub presence_penalty: Option<f32>,
    /// In [`PENALTIES`].
    pub frequency_penalty: Option<f32>,
    /// Most tokens of an answer in a conversation, from 1 on.
    pub max_tokens: Option<u32>,
}

/// What temperatures may be.
pub const TEMPERATURES: RangeInclusive<f32> = 0.0..=2.0;
/// What shares of probability may be.
pub const SHARES: RangeInclusive<f32> = 0.0..=1.0;
/// What a repetition penalty may be.
pub const REPETITION_PENALTIES: RangeInclusive<f32> = 0.01..=10.0;
/// What presence and frequency penalties may be.
pub const PENALTIES: RangeInclusive<f32> = -2.0..=2.0;

impl Mode {
    /// Returns the mode of a word, where it is one.
    pub fn of(word: &str) -> Option<Mode> {
        match word {
            "chat" => Some(Mode::Chat),
            "plain" => Some(Mode::Plain),
            _ => None,
        }
    }

    /// Returns its word.
    pub fn name(self) -> &'static str {
        match self {
            Mode::Chat => "chat",
            Mode::Plain => "plain",
        }
    }
}
