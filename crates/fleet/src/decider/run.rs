//! A run: one release of an endpoint on its way to a worker, with it, or on its way out.

use super::room::Hold;
use super::{ActionId, Generation, Incarnation, Millis, Prepared, RunId, Terms};
use crate::restart::EarlyExits;

/// A run.
#[derive(Clone, Debug)]
pub struct Run<T: Terms> {
    /// Its number, which no other has.
    pub id: RunId,
    /// The change, or the desired state, that wants it.
    pub generation: Generation,
    /// Its spec.
    pub spec: T::Spec,
    /// The number of its release; 0 before it has a place.
    pub release: u32,
    /// The result of its preparation, with the preparation's number.
    pub prepared: Option<(ActionId, Prepared<T::Need>)>,
    /// Its memory.
    pub hold: Option<Hold>,
    /// How far it is.
    pub stage: Stage,
    /// Its goal.
    pub goal: Goal,
    /// Whether it is leaving and still has another worker started, for calls that the last one has not answered.
    pub finishes: bool,
    /// How its workers ended.
    pub early_exits: EarlyExits,
    /// When the action of its stage was last asked for.
    pub(super) asked: Millis,
}

/// How far a run is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stage {
    /// Its spec is being prepared.
    Preparing(ActionId),
    /// It waits for memory, or for the list of earlier workers.
    Waiting {
        /// Since when.
        since: Millis,
    },
    /// Its worker is being started.
    Starting {
        /// The worker.
        incarnation: Incarnation,
        /// Whether an earlier service has started it.
        adopt: bool,
    },
    /// Its worker takes calls.
    Serving {
        /// The worker.
        incarnation: Incarnation,
        /// When it was last seen.
        seen: Millis,
        /// The request to close it because it is unused.
        closing: Option<ActionId>,
    },
    /// Its worker is ending on request.
    Ending {
        /// The worker.
        incarnation: Incarnation,
    },
    /// Its worker has ended, and the next one is started at a moment.
    Pausing {
        /// When.
        until: Millis,
        /// Why the last one ended.
        why: String,
    },
}

/// The goal of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Goal {
    /// It serves.
    Serve,
    /// It ends.
    Leave {
        /// How long calls have to end; as long as they want when absent.
        within: Option<Millis>,
    },
}

impl<T: Terms> Run<T> {
    /// Returns its worker, where it has one or is about to.
    pub fn incarnation(&self) -> Option<Incarnation> {
        match self.stage {
            Stage::Starting { incarnation, .. }
            | Stage::Serving { incarnation, .. }
            | Stage::Ending { incarnation } => Some(incarnation),
            Stage::Preparing(_) | Stage::Waiting { .. } | Stage::Pausing { .. } => None,
        }
    }

    /// Returns whether its worker takes calls.
    pub fn serves(&self) -> bool {
        matches!(self.stage, Stage::Serving { .. })
    }

    /// Returns whether it is ending.
    pub fn is_leaving(&self) -> bool {
        matches!(self.goal, Goal::Leave { .. })
    }

    /// Returns the identity of its worker, once it is prepared.
    pub(super) fn machine(&self) -> Option<&str> {
        self.prepared.as_ref().map(|(_, prepared)| prepared.machine.as_str())
    }
}
