//! The endpoints as calls and readers see them. Only the control plane writes here.

use crate::endpoints::endpoint::Endpoint;
use crate::endpoints::lease::Lease;
use crate::endpoints::visibility::Visibility;
use crate::placement::room::RoomNow;
use crate::replicas::worker_log::WorkerLog;
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_fleet::State;
use vastrelay_fleet::decider::Ledgers;
use vastrelay_fleet::upkeep::Due;

/// Failed deployments that wait for a reader; the oldest go first.
const MOST_FAILED: usize = 100;

/// The endpoints, by name.
#[derive(Default)]
pub struct Endpoints {
    known: RwLock<Known>,
    /// The latest output of their workers, including endpoints that are not served now.
    logs: Mutex<BTreeMap<String, Arc<WorkerLog>>>,
    /// Told whenever anything changes.
    change: watch::Sender<()>,
    /// Failed deployments that were not read yet, oldest first.
    failed: Mutex<VecDeque<FailedDeployment>>,
}

/// A deployment that failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FailedDeployment {
    /// The endpoint.
    pub name: String,
    /// The reason.
    pub why: String,
}

#[derive(Default)]
struct Known {
    served: BTreeMap<String, Arc<Endpoint>>,
    /// Endpoints that the control plane does not know.
    uncontrolled: BTreeMap<String, Arc<Endpoint>>,
    resting: BTreeMap<String, Resting>,
    /// Releases that are being started in the place of one that is served.
    coming: BTreeMap<String, Arc<Endpoint>>,
    /// When calls were refused that waited, and why.
    refused: BTreeMap<String, (Instant, String)>,
    /// The holders of memory and cores.
    room: Option<RoomNow>,
    /// Whether the endpoints of an earlier service are unknown as yet.
    expects_more: bool,
    /// Whether the service is about to end.
    is_draining: bool,
}

/// How all endpoints stand.
#[derive(Default)]
pub struct View {
    /// The ones that are served, or have their place already.
    pub served: BTreeMap<String, Arc<Endpoint>>,
    /// Endpoints without a replica: the state, the reason, and how long calls wait.
    pub resting: BTreeMap<String, (State, String, Option<Duration>)>,
    /// Releases that are being started in the place of one that is served.
    pub coming: BTreeMap<String, Arc<Endpoint>>,
    /// The holders of memory and cores.
    pub room: Option<RoomNow>,
}

/// An endpoint that is known and has no replica for calls.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resting {
    /// Its state.
    pub state: State,
    /// Why.
    pub why: String,
    /// Since when.
    pub since: Instant,
    /// Longest that a call waits for it.
    pub longest_wait: Option<Duration>,
}

impl Resting {
    /// Returns whether calls wait for it instead of being refused.
    fn is_waited_for(&self) -> bool {
        matches!(self.state, State::Parked | State::Starting)
    }
}

impl Endpoints {
    /// Returns all that are served or have their place already, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Endpoint>> {
        self.read().served.values().cloned().collect()
    }

    /// Returns all that are not, in the order of their names.
    pub fn resting(&self) -> BTreeMap<String, Resting> {
        self.read().resting.clone()
    }

    /// Returns the one that a caller who knows of so many names as its model, and keeps its replicas for the holder of the lease.
    ///
    /// # Errors
    /// When there is none of that name, or it is not served.
    pub fn called(&self, model: &str, visibility: &Visibility, holder: &str) -> Result<Lease, NotCalled> {
        let known = self.read();
        let unknown = || {
            let names = known.served.keys().filter(|name| visibility.has(name));
            NotCalled::Unknown {
                name: model.to_owned(),
                known: names.cloned().collect(),
            }
        };
        if !visibility.has(model) {
            return Err(unknown());
        }
        match (known.served.get(model), known.resting.get(model)) {
            (Some(endpoint), _) => Ok(Lease::take(endpoint, holder)),
            (None, Some(resting)) if resting.is_waited_for() => Err(NotCalled::Waits {
                name: model.to_owned(),
                state: resting.state,
            }),
            (None, Some(resting)) => Err(NotCalled::rests(model, resting.state, &resting.why)),
            (None, None) => Err(unknown()),
        }
    }

    /// Returns the one of a name that is served.
    ///
    /// # Errors
    /// When there is none of that name, or it is not served.
    pub fn get(&self, name: &str) -> Result<Arc<Endpoint>, NotServed> {
        let known = self.read();
        let served = known.served.get(name).cloned();
        served.ok_or_else(|| known.missing(name))
    }

    /// Returns the state of the one of a name, served or not.
    ///
    /// # Errors
    /// When there is none of that name.
    pub fn state_of(&self, name: &str) -> Result<State, NotServed> {
        let known = self.read();
        match (known.served.get(name), known.resting.get(name)) {
            (Some(endpoint), _) => Ok(endpoint.replicas.state()),
            (None, Some(resting)) => Ok(resting.state),
            (None, None) => Err(known.missing(name)),
        }
    }

    /// Returns the last lines of an endpoint's workers.
    pub fn worker_log(&self, name: &str) -> Arc<WorkerLog> {
        let mut logs = self.logs.lock().unwrap_or_else(PoisonError::into_inner);
        logs.entry(name.to_owned()).or_default().clone()
    }

    /// Forgets the lines of an endpoint's workers.
    pub fn forget_log(&self, name: &str) {
        self.logs.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
    }

    /// Says whether endpoints of an earlier service are unknown as yet.
    pub fn expect_more(&self, more: bool) {
        self.write().expects_more = more;
    }

    /// Returns whether endpoints of an earlier service are unknown as yet.
    pub fn expects_more(&self) -> bool {
        self.read().expects_more
    }

    /// Returns a receiver that hears of every change.
    pub fn changes(&self) -> watch::Receiver<()> {
        self.change.subscribe()
    }

    /// Returns who holds memory and cores.
    pub fn room(&self) -> RoomNow {
        self.read().room.clone().unwrap_or_default()
    }

    /// Returns the ledgers of memory and cores.
    pub fn ledgers(&self) -> Ledgers {
        self.room().ledgers
    }

    /// Returns the result of a call's wait for an endpoint, which began at a moment; nothing while the wait lasts.
    pub fn look(&self, name: &str, since: Instant) -> Option<Result<(), NotCalled>> {
        let known = self.read();
        if known.is_draining {
            return Some(Err(NotCalled::Draining));
        }
        if known.served.contains_key(name) {
            return Some(Ok(()));
        }
        let refused = known.refused.get(name).filter(|(at, _)| *at >= since);
        match (known.resting.get(name), refused) {
            (None, Some((_, why))) => Some(Err(NotCalled::rests(name, State::Failed, why))),
            (None, None) => Some(Err(NotCalled::Unknown {
                name: name.to_owned(),
                known: known.served.keys().cloned().collect(),
            })),
            (Some(resting), None) if resting.is_waited_for() => None,
            (Some(resting), None) => Some(Err(NotCalled::rests(name, resting.state, &resting.why))),
            (Some(resting), Some((_, why))) => {
                let why = if resting.is_waited_for() { why } else { &resting.why };
                Some(Err(NotCalled::rests(name, resting.state, why)))
            }
        }
    }

    /// Returns how long a call waits at most for one that is not served.
    pub fn longest_wait(&self, name: &str) -> Option<Duration> {
        let known = self.read();
        known.resting.get(name).and_then(|resting| resting.longest_wait)
    }

    /// Shows how all endpoints stand from now on.
    pub fn show(&self, view: View) {
        let View {
            mut served,
            resting,
            coming,
            room,
        } = view;
        let mut known = self.write();
        let uncontrolled = known.uncontrolled.iter();
        served.extend(uncontrolled.map(|(name, endpoint)| (name.clone(), endpoint.clone())));
        let before = std::mem::take(&mut known.resting);
        let resting = resting.into_iter().map(|(name, (state, why, longest_wait))| {
            let same = before
                .get(&name)
                .filter(|before| (before.state, &before.why) == (state, &why));
            let since = same.map_or_else(Instant::now, |same| same.since);
            let resting = Resting {
                state,
                why,
                since,
                longest_wait,
            };
            (name, resting)
        });
        known.resting = resting.collect();
        let is_same = |one: &BTreeMap<String, Arc<Endpoint>>, other: &BTreeMap<String, Arc<Endpoint>>| {
            one.len() == other.len()
                && one
                    .iter()
                    .zip(other)
                    .all(|((name, one), (named, other))| name == named && Arc::ptr_eq(one, other))
        };
        let is_news = known.resting != before || !is_same(&known.served, &served) || !is_same(&known.coming, &coming);
        (known.served, known.coming, known.room) = (served, coming, room);
        let Known {
            served,
            resting,
            refused,
            ..
        } = &mut *known;
        // Calls that waited for a removed endpoint have read its entry by the next publication.
        refused.retain(|name, (at, _)| {
            served.contains_key(name) || resting.contains_key(name) || at.elapsed() < REFUSED_IS_KNOWN
        });
        drop(known);
        if is_news {
            self.change.send_replace(());
        }
    }

    /// Refuses calls that wait for endpoints without a replica, as the service is about to end.
    pub fn drain(&self) {
        self.write().is_draining = true;
        for endpoint in self.all() {
            if !endpoint.replicas.has_replica() {
                endpoint.replicas.close();
            }
        }
        self.change.send_replace(());
    }

    /// Refuses calls that wait for an endpoint.
    pub fn refuse(&self, name: &str, why: String) {
        self.write().refused.insert(name.to_owned(), (Instant::now(), why));
        self.change.send_replace(());
    }

    /// Closes an unused endpoint to calls whose time for parking has come; returns whether it did.
    pub fn close_idle(&self, endpoint: &Arc<Endpoint>, why: String) -> bool {
        let mut known = self.write();
        // No call can get a lease meanwhile.
        let is_served = known
            .served
            .get(&endpoint.name)
            .is_some_and(|served| Arc::ptr_eq(served, endpoint));
        let is_idle = is_served && endpoint.due() == Some(Due::Park);
        if is_idle {
            known.served.remove(&endpoint.name);
            let resting = Resting {
                state: State::Parked,
                why,
                since: Instant::now(),
                longest_wait: endpoint.answer_settings.said.longest_wait,
            };
            known.resting.insert(endpoint.name.clone(), resting);
        }
        is_idle
    }

    /// Serves an endpoint without the control plane, in the place of the one of its name.
    pub fn put(&self, endpoint: Arc<Endpoint>) {
        let mut known = self.write();
        known.uncontrolled.insert(endpoint.name.clone(), endpoint.clone());
        known.served.insert(endpoint.name.clone(), endpoint);
        drop(known);
        self.change.send_replace(());
    }

    /// Notes that a deployment failed.
    pub fn note_failed(&self, name: &str, why: String) {
        let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
        if failed.len() == MOST_FAILED {
            failed.pop_front();
        }
        let name = name.to_owned();
        failed.push_back(FailedDeployment { name, why });
    }

    /// Returns the deployments that failed since the last time, oldest first.
    pub fn take_failed(&self) -> Vec<FailedDeployment> {
        let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
        failed.drain(..).collect()
    }

    /// Returns the release that is being started in the place of the one of a name that is served.
    pub fn coming(&self, name: &str) -> Option<Arc<Endpoint>> {
        self.read().coming.get(name).cloned()
    }

    /// The data under this lock is consistent at every moment, so it stays usable after a panic of another thread.
    fn read(&self) -> RwLockReadGuard<'_, Known> {
        self.known.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Known> {
        self.known.write().unwrap_or_else(PoisonError::into_inner)
    }
}

/// How long it is known why calls of an endpoint were refused that is gone.
const REFUSED_IS_KNOWN: Duration = Duration::from_secs(60);

impl Known {
    /// Returns why an endpoint is not served.
    fn missing(&self, name: &str) -> NotServed {
        let name = name.to_owned();
        match self.resting.get(&name) {
            None => NotServed::Unknown {
                name,
                known: self.served.keys().chain(self.resting.keys()).cloned().collect(),
            },
            Some(Resting { state, why, .. }) => NotServed::Rests {
                name,
                state: *state,
                why: why.clone(),
            },
        }
    }
}

/// The reason why an endpoint is not served.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotServed {
    /// There is none of that name.
    #[error("there is no endpoint `{name}`")]
    Unknown {
        /// The name.
        name: String,
        /// The names there are.
        known: Vec<String>,
    },
    /// It has no replica for calls.
    #[error("`{name}` is {}: {why}", state.name())]
    Rests {
        /// Its name.
        name: String,
        /// Its state.
        state: State,
        /// Why.
        why: String,
    },
}

/// Why a call does not come to an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotCalled {
    /// There is none of that name, as far as the caller knows.
    Unknown {
        /// The name.
        name: String,
        /// The names that the caller knows.
        known: Vec<String>,
    },
    /// It has no replica yet: the call can wait for it.
    Waits {
        /// Its name.
        name: String,
        /// Its state.
        state: State,
    },
    /// It is not served, and calls do not wait for it.
    Rests {
        /// Its name.
        name: String,
        /// Its state.
        state: State,
        /// Why.
        why: String,
    },
    /// It had no replica for as long as it lets a call wait.
    TooLong(Duration),
    /// The service is about to end.
    Draining,
}

impl NotCalled {
    fn rests(name: &str, state: State, why: &str) -> NotCalled {
        NotCalled::Rests {
            name: name.to_owned(),
            state,
            why: why.to_owned(),
        }
    }
}
