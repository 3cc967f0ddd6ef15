//! Load tests that the service runs against itself: `/manage/load`.

use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::ToSchema;

/// How requests arrive.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema, PartialEq)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Arrival {
    /// So many users, each of whom sends its next request when the last has ended.
    Closed {
        /// How many.
        users: usize,
    },
    /// Independent arrivals at a mean rate, whether or not earlier ones have ended.
    Poisson {
        /// Requests a second.
        rate: f64,
    },
    /// Closed, with a number of users that changes.
    Steps {
        /// How many, one after the other.
        users: Vec<usize>,
        /// Seconds of each step.
        seconds: f64,
    },
}

/// When no more requests are sent.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema, PartialEq)]
#[serde(rename_all = "lowercase")]
pub enum Span {
    /// After so many seconds.
    Seconds(f64),
    /// After so many requests.
    Requests(usize),
}

/// Where prompts come from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema, PartialEq)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum PromptSource {
    /// One of the demo's own: `questions` or `follow-ups`.
    Set {
        /// Which.
        name: String,
    },
    /// JSON Lines: each object has `messages`, a `prompt` to be continued, or a `question`.
    Lines {
        /// What they are called in the report.
        name: String,
        /// The lines.
        text: String,
    },
    /// One question, again and again.
    Question {
        /// The question.
        text: String,
    },
    /// Different prompts of random tokens.
    Synthetic {
        /// Their lengths in tokens: `128`, `64..256` or `lognormal:128,1.0`.
        lengths: String,
        /// Tokens that all begin with.
        #[serde(default)]
        shared_prefix: usize,
    },
}

/// `POST /manage/load`: what load to send.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoadOrder {
    /// The model to call.
    pub model: String,
    /// A name for people; what it does, in short, when absent.
    #[serde(default)]
    pub name: Option<String>,
    /// How requests arrive.
    pub arrival: Arrival,
    /// When no more are sent.
    pub span: Span,
    /// What is asked.
    pub prompts: PromptSource,
    /// Requests sent before and not counted; as many as there are users when absent, 8 for poisson.
    #[serde(default)]
    pub warm_up: Option<usize>,
    /// Most tokens of the answers, as lengths; the model's own end when absent.
    #[serde(default)]
    pub output: Option<String>,
    /// Whether answers go on until they have that length.
    #[serde(default)]
    pub force_length: bool,
    /// 0 always takes the most probable token.
    #[serde(default)]
    pub temperature: f32,
    /// Makes arrivals, lengths and order repeatable.
    #[serde(default = "usual_seed")]
    pub seed: u64,
    /// Tokens a second that a stream should keep.
    #[serde(default = "usual_pace")]
    pub pace: f64,
}

fn usual_seed() -> u64 {
    1
}

fn usual_pace() -> f64 {
    12.0
}

/// How far a load test is.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum LoadState {
    /// Requests are sent that are not counted.
    #[default]
    Warming,
    /// Requests are sent and measured.
    Sending,
    /// It is over and kept as a run.
    Ended,
    /// It came to nothing.
    Failed,
}

/// `GET /manage/load`, and the event `load` of `GET /manage/live`: how the newest load test is getting on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct LoadStatus {
    /// Its name.
    pub name: String,
    /// The model that is called.
    pub model: String,
    /// How far it is.
    pub state: LoadState,
    /// The part of it that is done, from 0 to 1.
    pub part: f64,
    /// Seconds since the first counted request.
    pub seconds: f64,
    /// Requests sent.
    pub sent: usize,
    /// Requests that are over.
    pub ended: usize,
    /// Of those, with an error.
    pub errors: usize,
    /// Tokens of answers so far.
    pub output_tokens: usize,
    /// Median time to first token of the last requests, in seconds.
    pub ttft_p50: f64,
    /// The run that it was kept as.
    pub run: Option<String>,
    /// What went wrong.
    pub failure: Option<String>,
}

impl fmt::Display for Arrival {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Arrival::Closed { users: 1 } => f.write_str("closed, 1 user"),
            Arrival::Closed { users } => write!(f, "closed, {users} users"),
            Arrival::Poisson { rate } => write!(f, "Poisson, {rate} requests/s"),
            Arrival::Steps { users, seconds } => {
                let users: Vec<String> = users.iter().map(usize::to_string).collect();
                write!(f, "steps of {} users, {seconds} s each", users.join(", "))
            }
        }
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Span::Seconds(seconds) => write!(f, "{seconds} s"),
            Span::Requests(1) => f.write_str("1 request"),
            Span::Requests(count) => write!(f, "{count} requests"),
        }
    }
}
