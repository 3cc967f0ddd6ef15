//! The decider: the desired and the observed state of every endpoint, the ledger of memory, and the next actions.
//!
//! [`Decider::handle`] takes an event and returns actions. It does no I/O and knows no clock, so that histories can be replayed. Each action may be carried
//! out more than once, and each event may come late, twice or never: what has had no answer is asked for again.
//!
//! An endpoint has at most one *change* under way, which has the number of its job. A newer change takes its place. A change that fails leaves the
//! endpoint as it was. *Parked* is no desired state: an endpoint without calls has no run, and the next call brings one. A *run* is a release on its
//! way to a worker, with it, or on its way out; it holds its memory until nothing is left of its worker.
//!
//! | file | concept |
//! |---|---|
//! | `event` | the decider's input |
//! | `action` | its orders |
//! | `endpoint` | one endpoint: its events, its change under way, its runs |
//! | `run` | one release with its worker |
//! | `room` | the ledger |
//! | `shared` | numbers, and workers that belong to no run |

mod action;
mod endpoint;
mod event;
mod room;
mod run;
mod shared;

pub use action::{Action, Outcome, Refused, Start, Write};
use endpoint::WorkerEnd;
pub use endpoint::{Endpoint, Rest, Underway};
pub use event::{About, Change, Desired, Event, Failure, Left, Prepared, Stored};
pub use room::{DeviceLedger, Hold, Holder, Ledgers, Need, Take, Taken};
pub use run::{Goal, Run, Stage};

use crate::cores::CoreLedger;
use crate::state::State;
use shared::Shared;
use std::collections::BTreeMap;
use std::fmt::Debug;

/// The number of a change, which is that of its job; later ones are higher.
pub type Generation = u64;
/// The number of an action.
pub type ActionId = u64;
/// The number of a run.
pub type RunId = u64;
/// The number of a worker's life; later ones are higher.
pub type Incarnation = u64;
/// Milliseconds of a clock that never goes back.
pub type Millis = u64;

/// How long an action may have no answer before it is asked for again.
const ASK_AGAIN: Millis = 10_000;
/// Time without a sign of a worker after which the decider asks for a look.
const LOOK: Millis = 10_000;
/// Time between two tries of a write that failed.
const RETRY_WRITE: Millis = 1_000;
/// Time between two tries to start what could not be started for a reason that may pass.
const START_AGAIN: Millis = 5_000;
/// How long a run waits for memory that is about to be given back.
const ROOM_WAIT: Millis = 5_000;
/// Longest time that a worker of an earlier service waits for its adoption.
const LEFT_WAIT: Millis = 60_000;
/// How long the calls of a release have to end that makes room for the next one.
const PAUSE: Millis = 60_000;

/// Types that the decider does not look into.
pub trait Terms: Clone + Debug {
    /// The spec of an endpoint.
    type Spec: Clone + Debug + PartialEq;
    /// The memory that a run needs.
    type Need: Need + Debug;
}

/// Where a call goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Admission {
    /// To a run.
    Run(RunId),
    /// Nowhere yet: a run starts, now or when a [`Called`](Event::Called) reports the waiting call.
    Wait,
    /// Nowhere.
    Refused(String),
    /// There is no such endpoint.
    Unknown,
}

/// The decider.
#[derive(Clone, Debug)]
pub struct Decider<T: Terms> {
    endpoints: BTreeMap<String, Endpoint<T>>,
    shared: Shared<T>,
}

impl<T: Terms> Decider<T> {
    /// Returns a decider that knows no endpoint, in a world where so many incarnations were begun.
    pub fn new(last_incarnation: Incarnation) -> Decider<T> {
        Decider {
            endpoints: BTreeMap::new(),
            shared: Shared::new(last_incarnation),
        }
    }

    /// Adds a kind of device: so many with so many bytes each, and cores where it has some. One of which anything is held stays as it is.
    pub fn add_device(&mut self, device: &str, count: usize, memory: usize, cores: Option<CoreLedger>) {
        self.shared.ledgers.add(device, count, memory, cores);
    }

    /// Takes an event at a moment; returns the actions that follow.
    pub fn handle(&mut self, event: Event<T>, now: Millis) -> Vec<Action<T>> {
        self.shared.now = self.shared.now.max(now);
        let touched = self.note(event);
        match touched {
            Touched::None => {}
            Touched::One(name) => self.settle(&name),
            Touched::All => {
                let names: Vec<String> = self.endpoints.keys().cloned().collect();
                names.iter().for_each(|name| self.settle(name));
            }
        }
        self.settle_those_that_wait();
        let Decider { endpoints, shared } = self;
        if !shared.adopting {
            shared.end_left(|left| endpoints.get(&left.endpoint).is_some_and(Endpoint::may_adopt));
        }
        std::mem::take(&mut self.shared.actions)
    }

    /// Notes the facts of an event; returns the endpoints that they are about.
    fn note(&mut self, event: Event<T>) -> Touched {
        match event {
            Event::Began(stored) => {
                for stored in stored {
                    self.endpoints.insert(stored.name.clone(), Endpoint::stored(stored));
                }
                Touched::All
            }
            Event::Found(left) => {
                if !self.shared.adopting {
                    return Touched::None;
                }
                self.shared.find(left);
                Touched::All
            }
            Event::Requested {
                name,
                generation,
                change,
            } => {
                let endpoint = self.endpoints.entry(name.clone());
                endpoint
                    .or_insert_with(|| Endpoint::new(&name))
                    .propose(generation, change);
                Touched::One(name)
            }
            Event::Withdrawn { generation } => {
                let Decider { endpoints, shared } = self;
                let found = endpoints
                    .iter_mut()
                    .find_map(|(name, endpoint)| endpoint.withdraw(shared, generation).then_some(name));
                found.cloned().map_or(Touched::None, Touched::One)
            }
            Event::Called { name } => {
                match self.endpoints.get_mut(&name) {
                    Some(endpoint) => endpoint.called(&mut self.shared),
                    None => {
                        let why = "there is no such endpoint".into();
                        self.shared.act(Action::Refuse {
                            name: name.clone(),
                            why,
                        });
                    }
                }
                Touched::One(name)
            }
            Event::Idle { run } => self.each(|endpoint, shared| endpoint.idle(shared, run)),
            Event::Closed { id, closed } => self.each(|endpoint, _| endpoint.closed(id, closed)),
            Event::Wrote { id, result } => self.each(|endpoint, shared| endpoint.wrote(shared, id, result.clone())),
            Event::Prepared { id, result } => {
                self.each(|endpoint, shared| endpoint.prepared(shared, id, result.clone()))
            }
            Event::Started {
                run,
                incarnation,
                result,
            } => {
                let is_known = self
                    .endpoints
                    .values()
                    .any(|endpoint| endpoint.run_of(incarnation).is_some());
                // It was given up, and what it brought is ended.
                if !is_known && result.is_ok() {
                    self.shared.end_orphan(incarnation);
                }
                self.each(|endpoint, shared| endpoint.started(shared, run, incarnation, result.clone()))
            }
            Event::Seen { incarnation } => {
                let now = self.shared.now;
                self.endpoints
                    .values_mut()
                    .for_each(|endpoint| endpoint.seen(now, incarnation));
                Touched::None
            }
            Event::Gone {
                incarnation,
                produced,
                calls,
                why,
            } => {
                self.shared.is_gone(incarnation);
                let end = WorkerEnd { produced, calls, why };
                self.each(|endpoint, shared| endpoint.gone(shared, incarnation, end.clone()))
            }
            Event::Ticked => {
                let Decider { endpoints, shared } = self;
                endpoints.values_mut().for_each(|endpoint| endpoint.ask_again(shared));
                shared.ask_for_orphans();
                Touched::All
            }
        }
    }

    /// Notes facts for all endpoints, each of which knows whether they are its own.
    fn each(&mut self, mut note: impl FnMut(&mut Endpoint<T>, &mut Shared<T>)) -> Touched {
        let Decider { endpoints, shared } = self;
        endpoints.values_mut().for_each(|endpoint| note(endpoint, shared));
        Touched::All
    }

    /// Asks for what the facts about an endpoint call for; forgets it where nothing is left of it.
    fn settle(&mut self, name: &str) {
        self.shared.frees_soon = self.endpoints.values().any(Endpoint::frees_soon);
        let Some(endpoint) = self.endpoints.get_mut(name) else {
            return;
        };
        endpoint.settle(&mut self.shared);
        if endpoint.is_nothing() {
            self.endpoints.remove(name);
        }
    }

    /// Settles the endpoints that wait for memory, the longest wait first: some may have become free.
    fn settle_those_that_wait(&mut self) {
        let since = |(name, endpoint): (&String, &Endpoint<T>)| Some((endpoint.waits_since()?, name.clone()));
        let mut waiting: Vec<(Millis, String)> = self.endpoints.iter().filter_map(since).collect();
        waiting.sort();
        waiting.iter().for_each(|(_, name)| self.settle(name));
    }

    /// Returns the endpoints, by their names.
    pub fn endpoints(&self) -> &BTreeMap<String, Endpoint<T>> {
        &self.endpoints
    }

    /// Returns the ledger of each kind of device.
    pub fn ledgers(&self) -> &Ledgers {
        &self.shared.ledgers
    }

    /// Returns whether memory of some endpoint is about to be given back.
    pub fn frees_soon(&self) -> bool {
        let is_held = |worker: &shared::LeftWorker| worker.hold.is_some();
        self.endpoints.values().any(Endpoint::frees_soon) || self.shared.left.iter().any(is_held)
    }

    /// Returns the workers without a run: unadopted workers of an earlier service, and workers of runs that were given up.
    pub fn workers_without_run(&self) -> Vec<Incarnation> {
        let left = self.shared.left.iter().map(|worker| worker.left.incarnation);
        left.chain(self.shared.orphans.iter().map(|orphan| orphan.incarnation))
            .collect()
    }

    /// Returns the number of the newest incarnation.
    pub fn last_incarnation(&self) -> Incarnation {
        self.shared.last_incarnation()
    }

    /// Returns where a call of a name goes.
    pub fn admit(&self, name: &str) -> Admission {
        let Some(endpoint) = self.endpoints.get(name) else {
            return Admission::Unknown;
        };
        endpoint.admit()
    }

    /// Returns the state of an endpoint.
    pub fn state_of(&self, name: &str) -> Option<State> {
        self.endpoints.get(name).map(Endpoint::state)
    }
}

impl<T: Terms> Endpoint<T> {
    fn admit(&self) -> Admission {
        let serving = self.desired.as_ref().is_some_and(|desired| desired.serving);
        let starts = self.change.as_ref().is_some_and(Underway::starts) || self.is_first();
        match (self.current_run(), &self.rest) {
            (Some(run), _) if run.serves() => Admission::Run(run.id),
            (_, Some(Rest::Failed { why, again: None })) if serving && !starts => Admission::Refused(why.clone()),
            _ if serving || starts => Admission::Wait,
            _ => Admission::Refused("it is not served".into()),
        }
    }

    /// Returns whether its first deployment is being noted.
    fn is_first(&self) -> bool {
        let deploys = |proposal: &endpoint::Proposal<T::Spec>| matches!(proposal.change, Change::Deploy { .. });
        self.desired.is_none() && self.change.is_none() && self.proposals.iter().any(deploys)
    }

    /// Returns its state.
    pub fn state(&self) -> State {
        let starts = self.change.as_ref().is_some_and(Underway::starts) || self.is_first();
        match (self.current_run(), &self.rest) {
            (Some(run), _) => match &run.stage {
                Stage::Serving { .. } => State::Ready,
                Stage::Ending { .. } => State::Draining,
                Stage::Pausing { .. } if run.early_exits.is_loop() => State::Failed,
                _ => State::Starting,
            },
            _ if starts => State::Starting,
            (None, Some(Rest::Parked)) => State::Parked,
            (None, Some(Rest::Failed { .. })) => State::Failed,
            (None, None) => match &self.desired {
                Some(desired) if desired.serving => State::Starting,
                Some(_) if self.runs.is_empty() => State::Stopped,
                _ => State::Draining,
            },
        }
    }
}

/// The endpoints that an event is about.
enum Touched {
    None,
    One(String),
    All,
}
