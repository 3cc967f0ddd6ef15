//! The messages between a service and a worker.

use crate::replicas::assignment::Assignment;
pub use crate::replicas::start_phase::StartPhase;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand, EngineStatus, Frame};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{Limits, MemoryReport};
use vastrelay_fleet::decider::Taken;
use vastrelay_text::TokenPieces;

/// The version of everything here but [`Handshake`] and [`HandshakeReply::Refused`], whose form never changes.
pub const PROTOCOL: u32 = 7;
/// Bytes that a worker may send ahead of what the service has read.
pub const WINDOW: usize = 4 << 20;
/// Events of one message at most.
pub const MOST_EVENTS: usize = 4_096;
/// Bytes of the events of one message at most, unless it is one event.
pub const MOST_EVENT_BYTES: usize = 4 << 20;
/// Bytes of the records of earlier steps that wait at most.
pub const MOST_RECORD_BYTES: usize = 4 << 20;
/// Tokens of a prompt whose scores go with one message at most.
pub const MOST_SCORES: usize = 8_192;
/// Most bytes of a message from a worker.
pub const MOST_FROM_WORKER: usize = 16 << 20;
/// Most bytes of a message to a worker.
pub const MOST_TO_WORKER: usize = 128 << 20;
/// Most bytes of the first message.
pub const MOST_HANDSHAKE: usize = 4 << 10;

/// The secret of a service, so that no other service can use its workers.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Secret(pub [u8; 32]);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret")
    }
}

/// Who connects.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Handshake {
    /// The version that it speaks.
    pub protocol: u32,
    /// The version of its program.
    pub program: String,
    /// The secret; a worker believes the first one.
    pub secret: Secret,
}

/// A worker's answer to a handshake.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum HandshakeReply {
    /// Nothing more comes, and why.
    Refused(String),
    /// It listens.
    Accepted(Box<WorkerIdentity>),
}

/// The state of a worker when a service connects.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct WorkerIdentity {
    /// The version of its program.
    pub program: String,
    /// The number of its process.
    pub process: u32,
    /// Its configuration; none in the first connection.
    pub config: Option<WorkerConfig>,
    /// Calls that it still works on.
    pub held: Vec<CallNumber>,
}

/// Which replica a worker is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct WorkerConfig {
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The replica's number.
    pub replica: u32,
    /// The number of this life of it.
    pub incarnation: u64,
    /// Its model and settings.
    pub assignment: Assignment,
    /// The memory and cores that it takes.
    pub taken: Taken,
}

/// The model's words, which the service has read already.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TokenTable {
    /// The text of each token.
    pub pieces: Arc<TokenPieces>,
    /// The tokens that end an answer.
    pub ends: Vec<u32>,
}

/// What a service says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum ToWorker {
    /// Load this and begin; wait for so long for another service when this one is gone.
    Start(Box<WorkerConfig>, TokenTable, Duration),
    /// For the engine.
    Command(EngineCommand),
    /// So many bytes of messages have been read.
    Read(usize),
    /// Whether its threads have cores of their own now, so that they may spin.
    Spin(bool),
    /// Take no more calls, and end when the last one has.
    Drain,
    /// Stop at once.
    End,
}

/// What a worker says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum ToService {
    /// It has got so far with its start.
    Phase(StartPhase),
    /// It takes commands. A service that adopts it gets this message again.
    Ready(Ready),
    /// It can do no more.
    Failed(String),
    /// The system has given so many more bytes of the memory that it has reserved.
    Given(usize),
    /// Scores of a prompt that are too many for one message; the event that follows has the last of them.
    Scores(CallNumber, u32, Vec<TokenLogprobs>),
    /// A frame of the engine, with the unsent records of earlier steps.
    Events(Frame, Vec<StepRecord>),
}

/// A loaded worker.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Ready {
    /// What it took of its device's memory.
    pub memory: MemoryReport,
    /// Bytes of that which the system has not given yet.
    pub untouched: usize,
    /// Tokens of its model.
    pub vocabulary: usize,
    /// What its engine may spend.
    pub limits: Limits,
    /// When its engine's clock began, in nanoseconds of the machine's clock that never runs backwards.
    pub started: u64,
    /// How it stands.
    pub status: EngineStatus,
}
