//! Events: everything that the decider learns.

use super::room::Taken;
use super::{ActionId, Generation, Incarnation, Millis, RunId, Terms};

/// A change that somebody wants of an endpoint.
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
    /// No replica until somebody starts it.
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

/// What was found out about a spec before it is started.
#[derive(Clone, Debug)]
pub struct Prepared<N> {
    /// The memory it takes, on the first of these devices that has room.
    pub needs: Vec<N>,
    /// What tells its release from others.
    pub identity: String,
    /// What tells its worker from others: a release with the same worker goes on with the one that is there.
    pub machine: String,
    /// The builds that its worker reads.
    pub builds: Vec<String>,
}

/// Why something could not be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The reason, for people.
    pub why: String,
    /// Whether it may pass by itself.
    pub may_pass: bool,
}

/// A worker that an earlier service has left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Left {
    /// The endpoint.
    pub endpoint: String,
    /// The number of its incarnation.
    pub incarnation: Incarnation,
    /// What tells it from others.
    pub machine: String,
    /// The memory that it holds.
    pub taken: Taken,
}

/// The desired state of an endpoint, as it is stored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Desired<S> {
    /// The number of the change that brought it about.
    pub generation: Generation,
    /// What it serves.
    pub spec: S,
    /// The number of its release.
    pub release: u32,
    /// What tells the release from others.
    pub identity: String,
    /// Whether it is served.
    pub serving: bool,
}

/// What the store has of an endpoint when a service begins.
#[derive(Clone, Debug)]
pub struct Stored<S> {
    /// Its name.
    pub name: String,
    /// What it is to be; nothing where its first deployment was under way, or it was being removed.
    pub desired: Option<Desired<S>>,
    /// Whether it had no replica for want of calls.
    pub parked: bool,
    /// The change that was under way.
    pub change: Option<(Generation, Change<S>)>,
}

/// Something that the decider learns.
#[derive(Clone, Debug)]
pub enum Event<T: Terms> {
    /// A service begins, with what is stored; workers of an earlier one are unknown as yet.
    Began(Vec<Stored<T::Spec>>),
    /// The workers that an earlier service has left: all of them, or as many as have answered in time.
    Found(Vec<Left>),
    /// Somebody wants a change; its number is higher than all before.
    Wished {
        /// The endpoint.
        name: String,
        /// The change's number.
        generation: Generation,
        /// The change.
        change: Change<T::Spec>,
    },
    /// Somebody withdraws a change.
    Withdrawn {
        /// The change's number.
        generation: Generation,
    },
    /// A call waits for an endpoint that has no replica.
    Called {
        /// The endpoint.
        name: String,
    },
    /// Nobody has used a run for as long as its spec says.
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
        /// What was found out.
        result: Result<Prepared<T::Need>, Failure>,
    },
    /// A run was closed to new calls, unless somebody uses it.
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
        /// Why, for people.
        why: String,
    },
    /// Time has passed.
    Ticked,
}
