//! What is asked of an engine, and what it answers.

use crate::sampling::Sampling;
use crate::token::{TokenLogprobs, Tokens};
use compact_str::CompactString;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use vastrelay_text::StopStrings;

/// What is wanted of a model.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RequestKind {
    /// Text that goes on from a prompt.
    #[default]
    Generate,
    /// A vector that stands for a text.
    Embed,
}

/// What a completion has to look like; there are none yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Constraint {}

/// What a completion had come to elsewhere, from which it goes on.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Emitted {
    /// Its tokens so far; their text is not told again.
    pub ids: Vec<u32>,
    /// Whether it was at its end.
    pub ended: bool,
}

/// One request for text, in token ids.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct GenerationRequest {
    /// A name for logs.
    pub name: String,
    /// What is wanted.
    pub kind: RequestKind,
    /// The prompt; at least one token.
    pub prompt: Vec<u32>,
    /// Whether the prompt ends where an answer of its own begins, as a chat template's does.
    pub answers_apart: bool,
    /// Most tokens of each completion; none when only the prompt's log-probabilities are wanted.
    pub most_tokens: usize,
    /// Completions wanted of the one prompt.
    pub choices: u32,
    /// What the completions came to before, one for each; empty where the request is new.
    pub emitted: Vec<Emitted>,
    /// Whether the prompt's log-probabilities were told before.
    pub prompt_told: bool,
    /// What completions have to look like.
    pub constraint: Option<Constraint>,
    /// How tokens are chosen.
    pub sampling: Sampling,
    /// Tokens that end a completion; they are not part of its text.
    pub end_ids: Vec<u32>,
    /// Completions do not end by one of `end_ids` before they have this many tokens.
    pub least_tokens: usize,
    /// Strings that end a completion; they are not part of its text.
    pub stop: StopStrings,
    /// Alternatives to report with the log-probability of each token; `None` for no log-probabilities.
    pub top_logprobs: Option<usize>,
    /// The same of each token of the prompt. Such a prompt is computed whole, whatever the cache holds of it.
    pub logprobs_of_prompt: Option<usize>,
    /// Higher is served earlier.
    pub priority: i8,
    /// How long it may take, from its arrival on.
    pub time_limit: Option<Duration>,
    /// How long ago it arrived.
    pub waited: Duration,
    /// Which adapter runs on top of the weights; none exist yet, so it is empty.
    pub adapter: String,
    /// Requests with different scopes never share KV pages.
    pub cache_scope: String,
}

/// Most completions of one prompt.
pub const MOST_CHOICES: u32 = 1 << 16;

impl GenerationRequest {
    /// Returns a request for one completion of at most so many tokens, with nothing else asked for.
    pub fn new(prompt: Vec<u32>, most_tokens: usize) -> GenerationRequest {
        GenerationRequest {
            name: String::new(),
            kind: RequestKind::Generate,
            prompt,
            answers_apart: false,
            most_tokens,
            choices: 1,
            emitted: Vec::new(),
            prompt_told: false,
            constraint: None,
            sampling: Sampling::default(),
            end_ids: Vec::new(),
            least_tokens: 0,
            stop: StopStrings::default(),
            top_logprobs: None,
            logprobs_of_prompt: None,
            priority: 0,
            time_limit: None,
            waited: Duration::ZERO,
            adapter: String::new(),
            cache_scope: String::new(),
        }
    }

    /// Returns how many of its completions have not ended.
    pub fn unfinished(&self) -> u32 {
        let ended = self.emitted.iter().filter(|emitted| emitted.ended).count();
        self.choices.saturating_sub(ended as u32)
    }

    /// Checks that a model of so many tokens could begin it, so that nothing behind it has to.
    ///
    /// # Errors
    /// [`Refusal::Invalid`] with what is wrong.
    pub fn check(&self, vocabulary: usize) -> Result<(), Refusal> {
        let invalid = |text: String| Err(Refusal::Invalid(text));
        let unknown = |ids: &[u32]| ids.iter().copied().find(|id| *id as usize >= vocabulary);
        if self.kind == RequestKind::Embed {
            return invalid("this model generates text; it does not embed".into());
        }
        if self.prompt.is_empty() {
            return invalid("the prompt has no token; it needs one at least".into());
        }
        let emitted = self.emitted.iter().map(|emitted| emitted.ids.as_slice());
        let bias: Vec<u32> = self.sampling.logit_bias.iter().map(|(id, _)| *id).collect();
        let mut lists = [&self.prompt, &self.end_ids, &bias]
            .into_iter()
            .map(Vec::as_slice)
            .chain(emitted);
        if let Some(id) = lists.find_map(unknown) {
            return invalid(format!(
                "there is no token {id}; this model has {vocabulary}, from 0 on"
            ));
        }
        if self.choices == 0 || self.choices > MOST_CHOICES {
            return invalid(format!(
                "{} completions do not work; 1 to {MOST_CHOICES} do",
                self.choices
            ));
        }
        if self.most_tokens == 0 && self.logprobs_of_prompt.is_none() {
            return invalid("no token is wanted, and no log-probability of the prompt".into());
        }
        if !self.emitted.is_empty() && self.emitted.len() != self.choices as usize {
            let (emitted, choices) = (self.emitted.len(), self.choices);
            return invalid(format!(
                "tokens of {emitted} completions go on, and {choices} are wanted"
            ));
        }
        for emitted in self.emitted.iter().filter(|emitted| !emitted.ended) {
            if emitted.ids.len() >= self.most_tokens.max(1) {
                return invalid("a completion that goes on has all its tokens already".into());
            }
            if !emitted.ids.is_empty() && self.logprobs_of_prompt.is_some() && !self.prompt_told {
                return invalid("a completion goes on before its prompt's log-probabilities were told".into());
            }
        }
        self.sampling.check().or_else(invalid)
    }
}

/// Why a completion ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EndReason {
    /// The model ended it with one of its end tokens.
    EndToken,
    /// A stop string appeared.
    StopString,
    /// It has as many tokens as it may.
    Length,
    /// The caller went away or cancelled.
    Cancelled,
    /// Its time was up.
    Deadline,
    /// It waited for a place in the batch as long as one may.
    QueueWait,
    /// The caller read so slowly that its buffer was full.
    SlowReader,
    /// The model computed something that is not a number.
    NotFinite,
}

/// Why a request was refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
pub enum Refusal {
    /// The queue is full.
    #[error("the queue is full: {depth} requests are waiting")]
    QueueFull {
        /// Requests waiting.
        depth: usize,
        /// Estimated time until there is room.
        retry_after: Duration,
    },
    /// Prompt and output are longer than there is room for.
    #[error("{wanted} tokens requested (prompt plus output); the limit is {limit}")]
    TooLong {
        /// Tokens asked for.
        wanted: usize,
        /// Tokens there are.
        limit: usize,
    },
    /// The request cannot be.
    #[error("{0}")]
    Invalid(String),
    /// The engine has stopped.
    #[error("the engine has stopped: {0}")]
    Stopped(String),
    /// The engine has stopped while it had the request and had not answered yet.
    #[error("the engine has stopped: {0}")]
    Lost(String),
}

/// A step forward of one completion.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Piece {
    /// Which completion.
    pub choice: u32,
    /// Text that may be shown now; empty while a character is incomplete or a stop string may be coming.
    pub text: CompactString,
    /// The new tokens.
    pub ids: Tokens,
    /// For each new token its log-probability and the most probable alternatives, when asked for.
    pub logprobs: Vec<TokenLogprobs>,
}

/// The figures of one completion, measured by the engine.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct RequestMetrics {
    /// Seconds from arrival to the batch.
    pub queued: f64,
    /// Seconds from the batch to the first token.
    pub prefill: f64,
    /// Seconds from arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens in seconds.
    pub itl_mean: f64,
    /// Largest gap in seconds.
    pub itl_max: f64,
    /// Seconds from arrival to the end.
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
}

/// What a request brings about, in order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Event {
    /// A completion has joined the batch.
    Admitted {
        /// Which completion.
        choice: u32,
    },
    /// The prompt has been read and its log-probabilities are wanted; comes once, before any completion goes on.
    Prompt {
        /// The completion that read it: the first one.
        choice: u32,
        /// One for each of its tokens but the first, which nothing comes before.
        logprobs: Vec<TokenLogprobs>,
    },
    /// A completion has gone on.
    Piece(Piece),
    /// A completion has ended.
    Ended {
        /// Which completion.
        choice: u32,
        /// Text that was held back until now.
        text: CompactString,
        /// Why it ended.
        reason: EndReason,
        /// The request's metrics; boxed, so that the many other events are small.
        metrics: Box<RequestMetrics>,
    },
    /// The engine failed; nothing more comes.
    Failed(String),
}
