//! How one request is sent, and when which of its tokens came.

mod dial;
mod http;
mod trust;

pub use http::{HttpTarget, Look};
pub use trust::Trust;

use crate::prompts::Prompt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;
use vastrelay_wire::manage::EndpointStatus;

/// One request of a load.
#[derive(Clone, Debug)]
pub struct Request {
    /// What it asks.
    pub prompt: Arc<Prompt>,
    /// Most tokens of the answer.
    pub most_tokens: Option<usize>,
    /// Whether the answer goes on until it has them.
    pub force_length: bool,
    /// Makes its sampling repeatable.
    pub seed: u64,
}

/// What came of a request.
#[derive(Clone, Debug)]
pub struct Answer {
    /// When its request began to leave, where that is known better than by when it was handed over: on a connection that stood
    /// already.
    pub sent: Option<Instant>,
    /// When each token arrived; tokens that came together have the same moment.
    pub tokens: Vec<Instant>,
    /// When it was over.
    pub ended: Instant,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the service's cache.
    pub reused_tokens: usize,
    /// Tokens of the answer, as the service counts them.
    pub output_tokens: usize,
    /// How long to wait before the next request, where the service said so.
    pub retry_after: Option<Duration>,
    /// What went wrong, by kind: `429 queue_full`, `connection refused`, `broken off`, …
    pub error: Option<String>,
}

/// Something that answers requests: a service, or a stand-in whose behaviour is known.
pub trait Target: Send + Sync + 'static {
    /// A request in the form in which it is sent.
    type Ready: Send + 'static;

    /// Makes a request ready before it is due, so that this costs the answer no time.
    fn ready(&self, request: &Request) -> Self::Ready;

    /// Sends a request and waits for the end of its answer.
    fn send(&self, ready: Self::Ready) -> impl Future<Output = Answer> + Send;

    /// Returns how the service's side stands, where it tells.
    fn look(&self) -> impl Future<Output = Seen> + Send;
}

/// How the service's side stands.
#[derive(Clone, Debug, Default)]
pub enum Seen {
    /// It does not tell.
    #[default]
    Nothing,
    /// The endpoint is served.
    Served(Box<EndpointStatus>),
    /// The endpoint takes no calls any more, and why.
    Gone(String),
}

impl Seen {
    /// Returns the status of an endpoint that is served.
    pub fn served(self) -> Option<EndpointStatus> {
        match self {
            Seen::Served(status) => Some(*status),
            Seen::Nothing | Seen::Gone(_) => None,
        }
    }
}
