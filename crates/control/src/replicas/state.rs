//! How a replica stands that takes no requests, and what that means for them.

use std::time::{Duration, Instant};
use vastrelay_engine::Refusal;
use vastrelay_fleet::State;
use vastrelay_serving::worker::protocol::StartPhase;

/// The state of a replica without a worker that takes calls.
#[derive(Clone, Debug)]
pub enum ReplicaState {
    /// The next one is being started, and is so far.
    Starting(StartPhase),
    /// The last one takes no more calls and ends soon, so that the next one can be started.
    Draining,
    /// Its workers end as soon as they begin; the next one is started at a moment.
    Failed {
        /// Why the last one ended.
        why: String,
        /// When the next one is started.
        until: Instant,
        /// Nothing speaks for another end of that one.
        is_hopeless: bool,
    },
}

/// How calls end whose endpoint is stopped before they have an answer.
pub const STOPPED: &str = "the endpoint was stopped before the answer had ended";

/// Why a request is not taken.
pub enum NotTaken {
    /// This one is refused.
    Refused(Refusal),
    /// None is.
    NotReady(NotReady),
}

/// Why an endpoint takes no request.
#[derive(Clone, Debug, thiserror::Error)]
pub enum NotReady {
    /// Its engine has stopped for good.
    #[error("the engine has stopped: {0}")]
    Stopped(String),
    /// Somebody has stopped it, and the time to end is over.
    #[error("the endpoint was stopped before it was this request's turn")]
    Closed,
    /// No replica took requests for as long as the endpoint lets one wait.
    #[error("the endpoint was still being started after {} s, for as long as it lets requests wait (`limits.wait`); try again later", .0.as_secs_f64())]
    Starting(Duration),
    /// The endpoint could not be started; no retry follows.
    #[error("the endpoint could not be started: {0}")]
    GivenUp(String),
    /// Its workers end as soon as they begin.
    #[error("its worker fails again and again: {why}; the next one starts in {} s", retry_after.as_secs().max(1))]
    Failed {
        /// How the last one ended.
        why: String,
        /// When the next one is started.
        retry_after: Duration,
        /// Whether nothing speaks for that one.
        is_hopeless: bool,
    },
}

impl ReplicaState {
    /// Returns the state of a replica in it.
    pub fn state(&self) -> State {
        match self {
            ReplicaState::Starting(_) => State::Starting,
            ReplicaState::Draining => State::Draining,
            ReplicaState::Failed { .. } => State::Failed,
        }
    }

    /// Returns the one of a replica whose workers end as soon as they begin, and that is started again after a pause.
    pub fn failed(why: String, pause: Duration, is_hopeless: bool) -> ReplicaState {
        ReplicaState::Failed {
            why,
            is_hopeless,
            until: Instant::now() + pause,
        }
    }
}
