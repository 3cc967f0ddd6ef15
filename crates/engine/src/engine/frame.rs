//! What an engine tells at once: the events of one step, and how things stand after it.

use crate::micros::Micros;
use crate::record::StepRecord;
use crate::request::{EndReason, Event, GenerationRequest, Refusal};
use crate::scheduler::Occupancy;
use serde::{Deserialize, Serialize};

/// The number of a call: one or several requests whose events come as one stream.
pub type CallNumber = u64;

/// A command to an engine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum EngineCommand {
    /// Requests that enter the queue together, all or none. Completions are numbered over all of them.
    Submit {
        /// A number that was not used before.
        call: CallNumber,
        /// The requests, checked.
        requests: Vec<GenerationRequest>,
        /// When they arrived, by the engine's clock.
        arrived: Micros,
    },
    /// Ends what has not ended of a call.
    Cancel {
        /// Which call; an unknown one has ended already.
        call: CallNumber,
        /// Why, as its last events say.
        reason: EndReason,
    },
    /// Asks the engine's own thread for a sign of life: a frame with [`Frame::pong`].
    Ping,
}

/// The news of an engine since the last frame.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Frame {
    /// Which calls were accepted, and which refused.
    pub answers: Vec<(CallNumber, Result<(), Refusal>)>,
    /// What happened to calls, in order.
    pub events: Vec<(CallNumber, Event)>,
    /// The step that was completed, if one was.
    pub record: Option<StepRecord>,
    /// Whether this answers an [`EngineCommand::Ping`].
    pub pong: bool,
    /// How things stand now.
    pub status: EngineStatus,
}

/// Who hears what an engine tells: its callers' side, or the way to it.
pub trait FrameSink: Send + Sync {
    /// Takes a frame and leaves it empty. Returns a record that is not kept any longer, for its memory.
    fn take(&self, frame: &mut Frame) -> Option<StepRecord>;

    /// Hears that the engine can do no more, and why.
    fn fail(&self, reason: &str);

    /// Hears that the engine was stopped.
    fn close(&self);
}

/// What an engine has done so far and what it is at.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct EngineStatus {
    /// Sequences, lanes and pages now.
    pub occupancy: Occupancy,
    /// Steps so far.
    pub steps: u64,
    /// Seconds that steps took so far.
    pub busy: f64,
    /// Prompt tokens computed so far, again after a preemption included.
    pub prefill_tokens: u64,
    /// Tokens produced so far.
    pub output_tokens: u64,
    /// Completions that ended so far.
    pub ended: u64,
    /// Tokens of the step under way.
    pub step_tokens: usize,
    /// Preemptions so far.
    pub preemptions: u64,
    /// Mean seconds that a completion stays in the batch, over the recent ones.
    pub residence: f64,
    /// Seconds since the engine started: the clock of its step records.
    pub uptime: f64,
    /// Set when the engine has failed.
    pub failure: Option<String>,
}
