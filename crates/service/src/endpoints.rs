//! The endpoints there are.

use crate::endpoint::Endpoint;
use crate::event_log::SERVICE;
use crate::problem::Problem;
use crate::sight::Sight;
use crate::worker_log::WorkerLog;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard, Weak};
use std::time::Instant;
use tokio::sync::watch;
use vastrelay_fleet::State;
use vastrelay_fleet::upkeep::Due;

/// The endpoints, by name.
#[derive(Default)]
pub struct Endpoints {
    known: RwLock<Known>,
    /// What their workers have said last, also of those that are not served now.
    logs: Mutex<BTreeMap<String, Arc<WorkerLog>>>,
    /// Told whenever an endpoint comes, goes, or may be changed again.
    change: watch::Sender<()>,
}

#[derive(Default)]
struct Known {
    served: BTreeMap<String, Arc<Endpoint>>,
    /// Those that will be there soon: nobody knows yet what they need.
    announced: BTreeSet<String>,
    /// Those that are not served.
    resting: BTreeMap<String, Resting>,
    /// Releases that are being started in the place of one that is served.
    coming: BTreeMap<String, Weak<Endpoint>>,
    /// Those that somebody deploys, stops, starts or removes just now.
    changing: BTreeSet<String>,
}

/// An endpoint that is known and not served.
#[derive(Clone, Debug)]
pub struct Resting {
    /// [`State::Stopped`], [`State::Parked`], or [`State::Failed`] where it cannot be started.
    pub state: State,
    /// Why.
    pub why: String,
    /// Since when.
    pub since: Instant,
    /// Whether it was tried to start it for a call, in vain.
    pub is_vain: bool,
}

/// What a call does about an endpoint that is parked.
pub(crate) enum Rouse {
    /// Nothing: it is there.
    There,
    /// It waits for a change: somebody else has it in hand.
    Wait,
    /// It starts it.
    Start,
    /// Nothing: it is not to be started.
    Refused(Problem),
}

/// The right to change an endpoint, given back when it is dropped.
pub(crate) struct Changing<'a> {
    endpoints: &'a Endpoints,
    name: String,
}

impl Resting {
    /// Returns the standing of an endpoint that somebody has stopped.
    pub fn stopped(by: &str) -> Resting {
        Resting {
            state: State::Stopped,
            why: match by {
                "" => "somebody has stopped it".into(),
                SERVICE => "its time is over (`stop_after`)".into(),
                by => format!("{by} has stopped it"),
            },
            since: Instant::now(),
            is_vain: false,
        }
    }

    /// Returns the standing of an endpoint that the next call starts.
    pub fn parked(why: String) -> Resting {
        Resting {
            state: State::Parked,
            why,
            since: Instant::now(),
            is_vain: false,
        }
    }

    /// Returns the standing of a parked endpoint that could not be started for a call; the next one tries again.
    pub(crate) fn parked_in_vain(why: String) -> Resting {
        Resting {
            is_vain: true,
            ..Resting::parked(why)
        }
    }

    /// Returns the standing of an endpoint that cannot be started.
    pub fn failed(why: String) -> Resting {
        Resting {
            state: State::Failed,
            why,
            since: Instant::now(),
            is_vain: false,
        }
    }
}

impl Endpoints {
    /// Returns all that are served or will be soon, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Endpoint>> {
        self.read().served.values().cloned().collect()
    }

    /// Returns all that are not, in the order of their names.
    pub fn resting(&self) -> BTreeMap<String, Resting> {
        self.read().resting.clone()
    }

    /// Returns the one that a caller who knows of so many names as its model.
    ///
    /// # Errors
    /// 404 with the names that the caller knows, 503 when it is not served.
    pub fn called(&self, model: &str, sight: &Sight) -> Result<Arc<Endpoint>, Problem> {
        let known = self.read();
        let unknown = || Problem::unknown_model(model, known.served.keys().filter(|name| sight.has(name)));
        if !sight.has(model) {
            return Err(unknown());
        }
        if let Some(endpoint) = known.served.get(model) {
            return Ok(endpoint.clone());
        }
        Err(match known.resting.get(model) {
            Some(resting) if resting.state == State::Parked => Problem::parked(model),
            _ if known.announced.contains(model) => Problem::starting(model),
            Some(resting) => Problem::resting(model, resting.state, &resting.why),
            None => unknown(),
        })
    }

    /// Returns the one of a name that is served.
    ///
    /// # Errors
    /// 404 with the names there are, 409 when it is not served.
    pub fn get(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let known = self.read();
        known.served.get(name).cloned().ok_or_else(|| known.missing(name))
    }

    /// Returns the state of the one of a name, served or not.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn state_of(&self, name: &str) -> Result<State, Problem> {
        let known = self.read();
        match (known.served.get(name), known.resting.get(name)) {
            (Some(endpoint), _) => Ok(endpoint.crew.state()),
            (None, _) if known.announced.contains(name) => Ok(State::Starting),
            (None, Some(resting)) => Ok(resting.state),
            (None, None) => Err(known.missing(name)),
        }
    }

    /// Returns what the workers of the one of a name have said last.
    pub(crate) fn worker_log(&self, name: &str) -> Arc<WorkerLog> {
        let mut logs = self.logs.lock().unwrap_or_else(PoisonError::into_inner);
        logs.entry(name.to_owned()).or_default().clone()
    }

    /// Says that endpoints will be there soon.
    pub fn announce<'a>(&self, names: impl IntoIterator<Item = &'a str>) {
        self.write().announced.extend(names.into_iter().map(str::to_owned));
    }

    /// Says that nobody needs to wait for an endpoint that was announced.
    pub fn withdraw(&self, name: &str) {
        self.write().announced.remove(name);
    }

    /// Returns whether endpoints will be there soon.
    pub(crate) fn expects_more(&self) -> bool {
        !self.read().announced.is_empty()
    }

    /// Says that an endpoint is not served, and why.
    pub fn rest(&self, name: &str, resting: Resting) {
        let mut known = self.write();
        known.announced.remove(name);
        known.resting.insert(name.to_owned(), resting);
        drop(known);
        self.change.send_replace(());
    }

    /// Returns what tells of changes.
    pub(crate) fn changes(&self) -> watch::Receiver<()> {
        self.change.subscribe()
    }

    /// Returns what a call that has waited since a moment does about an endpoint that is parked, or was. Where it starts it, others wait.
    pub(crate) fn rouse(&self, name: &str, since: Instant) -> Rouse {
        let mut known = self.write();
        if known.served.contains_key(name) {
            return Rouse::There;
        }
        if known.announced.contains(name) || known.changing.contains(name) {
            return Rouse::Wait;
        }
        match known.resting.get(name) {
            Some(resting) if resting.state != State::Parked || resting.is_vain && resting.since > since => {
                Rouse::Refused(Problem::resting(name, resting.state, &resting.why))
            }
            Some(_) => {
                known.announced.insert(name.to_owned());
                Rouse::Start
            }
            None => Rouse::Refused(known.missing(name)),
        }
    }

    /// Takes an endpoint away that nobody uses and for which it is time to be parked; it rests from the same moment on.
    pub(crate) fn take_idle(&self, name: &str, resting: Resting) -> Option<Arc<Endpoint>> {
        let mut known = self.write();
        let endpoint = known.served.get(name)?;
        // Whoever answers a call holds it, and nobody else can get hold of it meanwhile.
        if endpoint.due(Arc::strong_count(endpoint) > 1) != Some(Due::Park) {
            return None;
        }
        known.resting.insert(name.to_owned(), resting);
        known.served.remove(name)
    }

    /// Says that a release is being started in the place of one that is served.
    pub(crate) fn announce_change(&self, to: &Arc<Endpoint>) {
        self.write().coming.insert(to.name.clone(), Arc::downgrade(to));
    }

    /// Returns the release that is being started in the place of the one of a name that is served.
    pub(crate) fn coming(&self, name: &str) -> Option<Arc<Endpoint>> {
        let known = self.read();
        let coming = known.coming.get(name).and_then(Weak::upgrade)?;
        let is_there = known
            .served
            .get(name)
            .is_some_and(|served| Arc::ptr_eq(served, &coming));
        (!is_there).then_some(coming)
    }

    /// Keeps others from changing an endpoint.
    ///
    /// # Errors
    /// 409 when somebody else changes it just now.
    pub(crate) fn change(&self, name: &str) -> Result<Changing<'_>, Problem> {
        match self.write().changing.insert(name.to_owned()) {
            true => Ok(Changing {
                endpoints: self,
                name: name.to_owned(),
            }),
            false => Err(Problem::conflict(
                "endpoint_changing",
                format!("somebody else changes `{name}` just now; try again when that is done"),
            )),
        }
    }

    /// Serves one from now on, in the place of the one of its name; returns that.
    pub(crate) fn put(&self, endpoint: Arc<Endpoint>) -> Option<Arc<Endpoint>> {
        let mut known = self.write();
        let name = endpoint.name.clone();
        known.announced.remove(&name);
        known.resting.remove(&name);
        let before = known.served.insert(name, endpoint);
        drop(known);
        self.change.send_replace(());
        before
    }

    /// Takes one away and returns it. Calls that are being answered go on until they end.
    ///
    /// # Errors
    /// As of [`Endpoints::get`].
    pub(crate) fn take(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let mut known = self.write();
        known.served.remove(name).ok_or_else(|| known.missing(name))
    }

    /// Forgets one that is not served; returns whether there was one.
    pub(crate) fn forget(&self, name: &str) -> bool {
        self.logs.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
        self.write().resting.remove(name).is_some()
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn read(&self) -> RwLockReadGuard<'_, Known> {
        self.known.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Known> {
        self.known.write().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Known {
    /// Returns why an endpoint is not served.
    fn missing(&self, name: &str) -> Problem {
        match self.resting.get(name) {
            Some(resting) => Problem::conflict(
                "endpoint_not_served",
                format!("`{name}` is {}: {}", resting.state.name(), resting.why),
            ),
            None if self.announced.contains(name) => Problem::starting(name),
            None => Problem::unknown_endpoint(name, self.served.keys().chain(self.resting.keys())),
        }
    }
}

impl Drop for Changing<'_> {
    fn drop(&mut self) {
        let mut known = self.endpoints.write();
        known.changing.remove(&self.name);
        known.coming.remove(&self.name);
        drop(known);
        self.endpoints.change.send_replace(());
    }
}
