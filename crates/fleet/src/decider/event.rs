//! Events: the input of the decider.

use super::room::Taken;
use super::{ActionId, Generation, Incarnation, Millis, RunId, Terms};

/// A change of an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change<S> {
    /// Another spec, or the first one.
    Deploy {
        /// The spec.
        spec: S,
        /// The release that the change begins from; any when absent.
        from_release: Option<u32>,
        /// Whether the replica that is there may end first, where memory has no room for both.
        with_pause: bool,
    },
    /// Serving what is stopped, or what could not be started.
    Start,
    /// No replica until a start.
    Stop {
        /// How long calls have to end.
        within: Millis,
    },
    /// No replica until the next call.
    Park {
        /// How long calls have to end.
        within: Millis,
    },
    /// Another worker of the same release.
    Renew {
        /// How long calls have to end.
        within: Millis,
    },
    /// Nothing of it any more.
    Remove,
}

/// The result of preparing a spec.
#[derive(Clone, Debug)]
pub struct Prepared<N> {
    /// The memory it takes, on the first of these devices that has room.
    pub needs: Vec<N>,
    /// The identity of its release.
    pub identity: String,
    /// The identity of what runs: two releases with the same one can share a worker.
    pub machine: String,
}

/// Why something could not be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The reason, for people.
    pub why: String,
    /// The subject of the reason.
    pub about: About,
}

/// The subject of a reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum About {
    /// The spec, at this key.
    Spec(String),
    /// Memory or cores, of which too little is free, and the key of the spec that says how much is needed.
    Room(String),
    /// A worker that did not start, or ended.
    Worker,
    /// The database.
    Store,
    /// A cancellation.
    Cancelled,
    /// Something else that does not pass by itself.
    Other,
}

impl Failure {
    /// Returns a failure for want of memory.
    pub fn room(why: String) -> Failure {
        let about = About::Room("device.profile".into());
        Failure { why, about }
    }

    /// Returns a failure of a worker.
    pub fn worker(why: String) -> Failure {
        let about = About::Worker;
        Failure { why, about }
    }

    /// Returns the failure of a cancelled preparation.
    pub fn cancelled() -> Failure {
        Failure {
            why: "somebody has cancelled it".into(),
            about: About::Cancelled,
        }
    }

    /// Returns a failure that does not pass by itself.
    pub fn other(why: String) -> Failure {
        let about = About::Other;
        Failure { why, about }
    }

    /// Returns whether more memory or cores would have done.
    pub fn is_for_want_of_room(&self) -> bool {
        matches!(self.about, About::Room(_))
    }

    /// Returns whether the same may work later.
    pub fn may_pass(&self) -> bool {
        matches!(self.about, About::Room(_) | About::Store)
    }
}

/// A worker that an earlier service has left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Left {
    /// The endpoint.
    pub endpoint: String,
    /// The number of its incarnation.
    pub incarnation: Incarnation,
    /// The identity of the worker.
    pub worker: String,
    /// The memory and cores that it holds.
    pub taken: Taken,
}

/// The desired state of an endpoint, as it is stored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Desired<S> {
    /// The number of the change that brought it about.
    pub generation: Generation,
    /// Its spec.
    pub spec: S,
    /// The number of its release.
    pub release: u32,
    /// The identity of the release.
    pub identity: String,
    /// Whether it is served.
    pub serving: bool,
}

/// The stored state of an endpoint when a service begins.
#[derive(Clone, Debug)]
pub struct Stored<S> {
    /// Its name.
    pub name: String,
    /// Its desired state; absent where its first deployment or its removal was under way.
    pub desired: Option<Desired<S>>,
    /// The highest number of a release that it has had.
    pub last_release: u32,
    /// Whether it had no replica for want of calls.
    pub parked: bool,
    /// The change that was under way.
    pub change: Option<(Generation, Change<S>)>,
}

/// An event.
#[derive(Clone, Debug)]
pub enum Event<T: Terms> {
    /// A service begins, with what is stored; workers of an earlier one are unknown as yet.
    Began(Vec<Stored<T::Spec>>),
    /// The workers that an earlier service has left: all of them, or as many as have answered in time.
    Found(Vec<Left>),
    /// A caller wants a change; its number is higher than all earlier ones.
    Requested {
        /// The endpoint.
        name: String,
        /// The change's number.
        generation: Generation,
        /// The change.
        change: Change<T::Spec>,
    },
    /// A caller withdraws a change.
    Withdrawn {
        /// The change's number.
        generation: Generation,
    },
    /// A call waits for an endpoint that has no replica.
    Called {
        /// The endpoint.
        name: String,
    },
    /// A run was unused for as long as its spec says.
    Idle {
        /// The run.
        run: RunId,
    },
    /// A write of the store has ended.
    Wrote {
        /// The action.
        id: ActionId,
        /// Why it was not written.
        result: Result<(), Failure>,
    },
    /// A spec was prepared.
    Prepared {
        /// The action.
        id: ActionId,
        /// The findings.
        result: Result<Prepared<T::Need>, Failure>,
    },
    /// A run was closed to new calls, or is in use.
    Closed {
        /// The action.
        id: ActionId,
        /// Whether it was closed.
        closed: bool,
    },
    /// A worker takes calls, or will not come to that.
    Started {
        /// The run.
        run: RunId,
        /// The worker.
        incarnation: Incarnation,
        /// Why it does not take calls; then nothing is left of it.
        result: Result<(), Failure>,
    },
    /// A worker is there and takes calls.
    Seen {
        /// The worker.
        incarnation: Incarnation,
    },
    /// A worker is gone, and nothing is left of it.
    Gone {
        /// The worker.
        incarnation: Incarnation,
        /// Whether it produced a token.
        produced: bool,
        /// Whether calls that it has not answered wait for another worker.
        calls: bool,
        /// Why, for people.
        why: String,
    },
    /// Time has passed.
    Ticked,
}
