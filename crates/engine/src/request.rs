//! What is asked of an engine, and what it answers.

use crate::executor::Tokens;
use crate::sampling::Sampling;
use compact_str::CompactString;
use serde::Serialize;
use std::time::Duration;
use tokio::sync::mpsc;
use vastrelay_text::StopStrings;

/// One request for text, in token ids.
#[derive(Clone, Debug)]
pub struct GenerationRequest {
    /// A name for logs.
    pub name: String,
    /// The prompt; at least one token.
    pub prompt: Vec<u32>,
    /// Whether the prompt ends where an answer of its own begins, as a chat template's does.
    pub answers_apart: bool,
    /// Most tokens of each completion; none when only the prompt's log-probabilities are wanted.
    pub most_tokens: usize,
    /// Completions wanted of the one prompt.
    pub choices: u32,
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
    pub score_prompt: Option<usize>,
    /// Higher is served earlier.
    pub priority: i8,
    /// How long it may take, from now on.
    pub time_limit: Option<Duration>,
    /// Which adapter runs on top of the weights; none exist yet, so it is empty.
    pub adapter: String,
    /// Requests with different salts never share KV pages.
    pub cache_salt: String,
}

/// Why a completion ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize)]
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
    /// The caller read so slowly that its buffer was full.
    SlowReader,
    /// The model computed something that is not a number.
    NotFinite,
}

/// Why a request was refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
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
    /// The engine has stopped.
    #[error("the engine has stopped: {0}")]
    Stopped(String),
}

impl Refusal {
    /// Returns the refusal of a full queue, with an estimate from how long a completion stays in the batch, in seconds.
    pub fn queue_full(depth: usize, width: usize, residence: f64) -> Refusal {
        let rounds = (depth as f64 + 1.0) / width as f64;
        let seconds = (rounds * residence).clamp(1.0, 600.0).ceil();
        Refusal::QueueFull {
            depth,
            retry_after: Duration::from_secs_f64(seconds),
        }
    }
}

/// A token with its probability.
#[derive(Clone, Debug, PartialEq)]
pub struct TokenLogprob {
    /// The token.
    pub id: u32,
    /// Natural logarithm of its probability under the model, before sampling settings.
    pub logprob: f32,
}

/// A token with its probability, and the most probable ones in its place.
pub type Scored = (TokenLogprob, Vec<TokenLogprob>);

/// A step forward of one completion.
#[derive(Clone, Debug)]
pub struct Piece {
    /// Which completion.
    pub choice: u32,
    /// Text that may be shown now; empty while a character is incomplete or a stop string may be coming.
    pub text: CompactString,
    /// The new tokens.
    pub ids: Tokens,
    /// For each new token its log-probability and the most probable alternatives, when asked for.
    pub logprobs: Vec<Scored>,
}

/// The figures of one completion, measured by the engine.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Figures {
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
#[derive(Clone, Debug)]
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
        logprobs: Vec<Scored>,
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
        /// What was measured.
        figures: Figures,
    },
    /// The engine failed; nothing more comes.
    Failed(String),
}

/// The events of one request; dropping it cancels what has not ended.
pub struct RequestStream {
    pub(crate) events: mpsc::Receiver<Event>,
    pub(crate) on_drop: Option<Box<dyn FnOnce() + Send + Sync>>,
}

impl RequestStream {
    /// Returns the next event, or `None` when all completions have ended.
    pub async fn next(&mut self) -> Option<Event> {
        self.events.recv().await
    }

    /// As [`RequestStream::next`], for streams that poll.
    pub fn poll_next(&mut self, context: &mut std::task::Context<'_>) -> std::task::Poll<Option<Event>> {
        self.events.poll_recv(context)
    }
}

impl Drop for RequestStream {
    fn drop(&mut self) {
        if let Some(cancel) = self.on_drop.take() {
            cancel();
        }
    }
}
