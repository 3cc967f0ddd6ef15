//! Actions: the decider's orders to its shell. The same action may come more than once; carrying it out twice changes nothing.

use super::event::{Change, Failure};
use super::room::Taken;
use super::{ActionId, Desired, Generation, Incarnation, Millis, RunId, Terms};

/// How a change ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// The endpoint is what the change wanted.
    Reached,
    /// A newer change took its place.
    Replaced {
        /// The newer one's number.
        by: Generation,
    },
    /// It was given up, and the endpoint is what it was before.
    GivenUp {
        /// Why.
        failure: Failure,
    },
}

/// A transaction of the store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Write<S> {
    /// Notes a change as under way, in the place of the one that was. A stop and a removal hold from here on.
    Accept {
        /// The endpoint.
        name: String,
        /// The change's number.
        generation: Generation,
        /// The change.
        change: Change<S>,
        /// The one whose place it takes.
        replaces: Option<Generation>,
    },
    /// Notes how a change ended and, where it was reached, what the endpoint is from now on.
    End {
        /// The endpoint.
        name: String,
        /// The change's number.
        generation: Generation,
        /// How it ended.
        outcome: Outcome,
        /// The new desired state; absent where the old one stays.
        desired: Option<Desired<S>>,
    },
    /// Notes that the desired state has become another release without a change: the files that it names are others.
    Became {
        /// The endpoint.
        name: String,
        /// The desired state with that release.
        desired: Desired<S>,
    },
}

/// The start or the adoption of a worker.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Start {
    /// The run.
    pub run: RunId,
    /// The endpoint.
    pub name: String,
    /// The number of the release.
    pub release: u32,
    /// The preparation that it starts from.
    pub prepared: ActionId,
    /// The worker's number.
    pub incarnation: Incarnation,
    /// Whether that worker is there already.
    pub adopt: bool,
    /// Its memory and cores.
    pub taken: Taken,
}

/// An order of the decider to its shell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action<T: Terms> {
    /// Writes to the store; [`Wrote`](super::Event::Wrote) follows.
    Write {
        /// Its number.
        id: ActionId,
        /// The transaction.
        write: Write<T::Spec>,
    },
    /// Answers the caller of a change: it is under way, or refused.
    Answer {
        /// The change's number.
        generation: Generation,
        /// Why it is not.
        accepted: Result<(), Refused>,
    },
    /// Opens the files of a spec, makes builds and sizes memory; [`Prepared`](super::Event::Prepared) follows.
    Prepare {
        /// Its number.
        id: ActionId,
        /// The endpoint.
        name: String,
        /// The spec.
        spec: T::Spec,
    },
    /// Ends a preparation; no event follows.
    Abandon {
        /// The preparation's number.
        id: ActionId,
    },
    /// Starts a worker, or adopts one of an earlier service; [`Started`](super::Event::Started) follows.
    Start(Start),
    /// Lets calls of a name go to a run from now on, as a release.
    Serve {
        /// The endpoint.
        name: String,
        /// The run.
        run: RunId,
        /// The number of the release.
        release: u32,
        /// The preparation with the release's own settings.
        prepared: ActionId,
    },
    /// Closes an unused run to new calls; [`Closed`](super::Event::Closed) follows.
    Close {
        /// Its number.
        id: ActionId,
        /// The run.
        run: RunId,
    },
    /// Closes a run to new calls, lets running calls end, and ends its worker, by force where the worker does not react;
    /// [`Gone`](super::Event::Gone) follows.
    End {
        /// The run; nothing for a worker of which the decider knows no run.
        run: Option<RunId>,
        /// The worker.
        incarnation: Incarnation,
        /// How long calls have to end; as long as they want when absent.
        within: Option<Millis>,
        /// Whether unfinished calls move to the next worker.
        moves: bool,
    },
    /// Looks for a worker; [`Seen`](super::Event::Seen) or [`Gone`](super::Event::Gone) follows.
    Look {
        /// The worker.
        incarnation: Incarnation,
    },
    /// Refuses calls that wait for an endpoint.
    Refuse {
        /// The endpoint.
        name: String,
        /// Why.
        why: String,
    },
    /// Deletes the remains of a removed endpoint: its log, and its builds where no other endpoint uses them.
    Forget {
        /// The endpoint.
        name: String,
    },
}

/// The reason why a change does not begin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refused {
    /// There is no endpoint of that name.
    Unknown,
    /// The endpoint has another release than the change begins from.
    Stale {
        /// The release that it has.
        now: u32,
    },
    /// The endpoint to start is served already.
    Served,
    /// The endpoint to start is starting already.
    Starting,
    /// The endpoint to park or to renew has no replica.
    NotServed,
    /// A newer change took its place before it was noted.
    Replaced {
        /// The newer one's number.
        by: Generation,
    },
    /// It could not be noted.
    NotStored {
        /// Why.
        why: String,
    },
}
