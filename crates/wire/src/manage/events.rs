//! What happened to endpoints.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What can happen to an endpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum EventKind {
    /// It is served from now on.
    Deployed,
    /// It is not served any more, and not kept.
    Removed,
    /// It is not served any more until somebody starts it.
    Stopped,
    /// It is served again that was stopped or parked.
    Started,
    /// It has no replica any more; the next call starts it.
    Parked,
    /// A call has started it.
    Unparked,
    /// Somebody wants other workers for its replicas.
    Renewed,
    /// A key was made.
    KeyMade,
    /// A key was revoked.
    KeyRevoked,
    /// A saved load test was removed.
    RunRemoved,
    /// A session of the console began.
    SignedIn,
    /// A worker takes requests.
    WorkerReady,
    /// A worker is gone that nobody ended.
    WorkerGone,
    /// A request went on with another worker.
    RequestMoved,
}

impl EventKind {
    /// All of them.
    pub const ALL: [EventKind; 14] = [
        EventKind::Deployed,
        EventKind::Removed,
        EventKind::Stopped,
        EventKind::Started,
        EventKind::Parked,
        EventKind::Unparked,
        EventKind::Renewed,
        EventKind::KeyMade,
        EventKind::KeyRevoked,
        EventKind::RunRemoved,
        EventKind::SignedIn,
        EventKind::WorkerReady,
        EventKind::WorkerGone,
        EventKind::RequestMoved,
    ];

    /// Returns its name, as it is kept and sent.
    pub fn name(self) -> &'static str {
        match self {
            EventKind::Deployed => "deployed",
            EventKind::Removed => "removed",
            EventKind::Stopped => "stopped",
            EventKind::Started => "started",
            EventKind::Parked => "parked",
            EventKind::Unparked => "unparked",
            EventKind::Renewed => "renewed",
            EventKind::KeyMade => "key_made",
            EventKind::KeyRevoked => "key_revoked",
            EventKind::RunRemoved => "run_removed",
            EventKind::SignedIn => "signed_in",
            EventKind::WorkerReady => "worker_ready",
            EventKind::WorkerGone => "worker_gone",
            EventKind::RequestMoved => "request_moved",
        }
    }

    /// Returns the one of a name.
    pub fn of(name: &str) -> Option<EventKind> {
        EventKind::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// One of `GET /manage/events`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointEvent {
    /// Its number; later ones have higher numbers.
    pub number: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// How long ago, in seconds.
    pub seconds_ago: f64,
    /// The endpoint; empty where it is about a key.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The number of the replica, 0 where it is none in particular.
    pub replica: u32,
    /// What happened.
    pub what: String,
    /// Who did it: the name of a key; `start` for the command that started the service; `service` for the service itself; empty for a
    /// caller without a key.
    pub who: String,
    /// Why, and how.
    pub why: String,
}

/// `POST /manage/endpoints/{name}/renew`: how long requests may take to end where they are.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Renewal {
    /// Seconds, a day at most; what has not ended by then goes on with the next worker. Half a minute when absent.
    #[serde(default = "usual_within")]
    pub within: f64,
}

fn usual_within() -> f64 {
    30.0
}
