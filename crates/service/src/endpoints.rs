//! The endpoints there are.

use crate::deploy_error::DeployError;
use crate::endpoint::Endpoint;
use crate::event_log::SERVICE;
use crate::problem::Problem;
use crate::retire::Leaving;
use crate::sight::Sight;
use crate::worker_log::WorkerLog;
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard, Weak};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_fleet::State;
use vastrelay_fleet::roster::{self, Found, Roster, Rouse};
use vastrelay_fleet::upkeep::Due;

/// Failed deployments that wait for a reader; the oldest go first.
const MOST_FAILED: usize = 100;

/// The endpoints, by name.
#[derive(Default)]
pub struct Endpoints {
    known: RwLock<Known>,
    /// What their workers have said last, also of those that are not served now.
    logs: Mutex<BTreeMap<String, Arc<WorkerLog>>>,
    /// What those hold still that are not served any more.
    pub(crate) leaving: Leaving,
    /// Told whenever an endpoint comes, goes, or may be changed again.
    change: watch::Sender<()>,
    /// Failed deployments that were not read yet, oldest first.
    failed: Mutex<VecDeque<FailedDeployment>>,
}

/// A deployment that failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FailedDeployment {
    /// The endpoint.
    pub name: String,
    /// The reason.
    pub why: String,
}

#[derive(Default)]
struct Known {
    roster: Roster<Arc<Endpoint>, Instant>,
    /// Releases that are being started in the place of one that is served.
    coming: BTreeMap<String, Weak<Endpoint>>,
}

/// An endpoint that is known and not served.
pub type Resting = roster::Resting<Instant>;

/// The right to change an endpoint, given back when it is dropped.
pub(crate) struct Changing<'a> {
    endpoints: &'a Endpoints,
    name: String,
}

/// Returns the standing of an endpoint that somebody has stopped.
pub fn stopped(by: &str) -> Resting {
    let why = match by {
        "" => "somebody has stopped it".into(),
        SERVICE => "its time is over (`stop_after`)".into(),
        by => format!("{by} has stopped it"),
    };
    resting(State::Stopped, why)
}

/// Returns the standing of an endpoint that the next call starts, which waits for so long at most.
pub fn parked(why: String, longest_wait: Option<Duration>) -> Resting {
    Resting {
        longest_wait,
        ..resting(State::Parked, why)
    }
}

/// Returns the standing of a parked endpoint that could not be started for a call; the next one tries again.
pub(crate) fn parked_in_vain(why: String, longest_wait: Option<Duration>) -> Resting {
    Resting {
        is_vain: true,
        ..parked(why, longest_wait)
    }
}

/// Returns the standing of an endpoint that cannot be started.
pub fn failed(why: String) -> Resting {
    resting(State::Failed, why)
}

/// Returns the standing of an endpoint that could not be started; it is tried again where the reason may pass.
pub fn failed_by(error: &DeployError) -> Resting {
    match error.may_pass() {
        false => failed(error.to_string()),
        true => Resting {
            is_vain: true,
            ..failed(format!("{error}; it is tried again by itself"))
        },
    }
}

fn resting(state: State, why: String) -> Resting {
    Resting {
        state,
        why,
        since: Instant::now(),
        is_vain: false,
        longest_wait: None,
    }
}

impl Endpoints {
    /// Returns all that are served or will be soon, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Endpoint>> {
        self.read().roster.served().values().cloned().collect()
    }

    /// Returns all that are not, in the order of their names.
    pub fn resting(&self) -> BTreeMap<String, Resting> {
        self.read().roster.resting().clone()
    }

    /// Returns the one that a caller who knows of so many names as its model.
    ///
    /// # Errors
    /// 404 with the names that the caller knows, 503 when it is not served.
    pub fn called(&self, model: &str, sight: &Sight) -> Result<Arc<Endpoint>, Problem> {
        let known = self.read();
        let served = || known.roster.served().keys().filter(|name| sight.has(name));
        match known.roster.find(model) {
            _ if !sight.has(model) => Err(Problem::unknown_model(model, served())),
            Found::Served(endpoint) => Ok(endpoint.clone()),
            Found::Parked => Err(Problem::parked(model)),
            Found::Starting => Err(Problem::starting(model)),
            Found::Resting(resting) => Err(Problem::resting(model, resting.state, &resting.why)),
            Found::Unknown => Err(Problem::unknown_model(model, served())),
        }
    }

    /// Returns the one of a name that is served.
    ///
    /// # Errors
    /// 404 with the names there are, 409 when it is not served.
    pub fn get(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let known = self.read();
        let served = known.roster.served().get(name).cloned();
        served.ok_or_else(|| known.missing(name))
    }

    /// Returns the state of the one of a name, served or not.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn state_of(&self, name: &str) -> Result<State, Problem> {
        let known = self.read();
        let state = known.roster.state_of(name, |endpoint| endpoint.crew.state());
        state.ok_or_else(|| known.missing(name))
    }

    /// Returns what the workers of the one of a name have said last.
    pub(crate) fn worker_log(&self, name: &str) -> Arc<WorkerLog> {
        let mut logs = self.logs.lock().unwrap_or_else(PoisonError::into_inner);
        logs.entry(name.to_owned()).or_default().clone()
    }

    /// Says that endpoints will be there soon.
    pub fn announce<'a>(&self, names: impl IntoIterator<Item = &'a str>) {
        let mut known = self.write();
        names.into_iter().for_each(|name| known.roster.announce(name));
    }

    /// Says that nobody needs to wait for an endpoint that was announced.
    pub fn withdraw(&self, name: &str) {
        self.write().roster.withdraw(name);
        self.change.send_replace(());
    }

    /// Returns whether endpoints will be there soon.
    pub(crate) fn expects_more(&self) -> bool {
        self.read().roster.expects_more()
    }

    /// Says that an endpoint is not served from now on, and why; returns it, where it was.
    pub fn rest(&self, name: &str, resting: Resting) -> Option<Arc<Endpoint>> {
        let served = self.write().roster.rest(name, resting);
        self.leaving.note(served.as_deref());
        self.change.send_replace(());
        served
    }

    /// Returns what tells of changes.
    pub(crate) fn changes(&self) -> watch::Receiver<()> {
        self.change.subscribe()
    }

    /// Returns what a call that has waited since a moment does about an endpoint that is parked, or was. Where it starts it, others wait.
    ///
    /// # Errors
    /// Why it gives up.
    pub(crate) fn rouse(&self, name: &str, since: Instant) -> Result<Rouse, Problem> {
        let mut known = self.write();
        match known.roster.rouse(name, since) {
            Rouse::GiveUp => Err(match known.roster.resting().get(name) {
                Some(resting) => Problem::resting(name, resting.state, &resting.why),
                None => known.missing(name),
            }),
            rouse => Ok(rouse),
        }
    }

    /// Returns how long a call waits at most for one that is parked.
    pub(crate) fn longest_wait(&self, name: &str) -> Option<Duration> {
        let known = self.read();
        known
            .roster
            .resting()
            .get(name)
            .and_then(|resting| resting.longest_wait)
    }

    /// Returns whether one is parked.
    pub(crate) fn is_parked(&self, name: &str) -> bool {
        matches!(self.read().roster.find(name), Found::Parked)
    }

    /// Takes an endpoint away that nobody uses and for which it is time to be parked; it rests from the same moment on.
    pub(crate) fn take_idle(&self, name: &str, resting: Resting) -> Option<Arc<Endpoint>> {
        // Whoever answers a call holds it, and nobody else can get hold of it meanwhile.
        let is_idle = |endpoint: &Arc<Endpoint>| endpoint.due(Arc::strong_count(endpoint) > 1) == Some(Due::Park);
        let idle = self.write().roster.rest_if(name, resting, is_idle);
        self.leaving.note(idle.as_deref());
        idle
    }

    /// Notes that a deployment failed.
    pub(crate) fn note_failed(&self, name: &str, why: String) {
        let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
        if failed.len() == MOST_FAILED {
            failed.pop_front();
        }
        let name = name.to_owned();
        failed.push_back(FailedDeployment { name, why });
    }

    /// Returns the deployments that failed since the last time, oldest first.
    pub(crate) fn take_failed(&self) -> Vec<FailedDeployment> {
        let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
        failed.drain(..).collect()
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
            .roster
            .served()
            .get(name)
            .is_some_and(|served| Arc::ptr_eq(served, &coming));
        (!is_there).then_some(coming)
    }

    /// Keeps others from changing an endpoint.
    ///
    /// # Errors
    /// 409 when somebody else changes it just now.
    pub(crate) fn change(&self, name: &str) -> Result<Changing<'_>, Problem> {
        match self.write().roster.change(name) {
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
        let name = endpoint.name.clone();
        let plan = endpoint.plan.clone();
        let before = self.write().roster.put(&name, endpoint);
        self.leaving
            .note(before.as_deref().filter(|before| !Arc::ptr_eq(&before.plan, &plan)));
        self.change.send_replace(());
        before
    }

    /// Takes one away and returns it. Calls that are being answered go on until they end.
    ///
    /// # Errors
    /// As of [`Endpoints::get`].
    pub(crate) fn take(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let mut known = self.write();
        let served = known.roster.take(name);
        self.leaving.note(served.as_deref());
        served.ok_or_else(|| known.missing(name))
    }

    /// Forgets one that is not served; returns whether there was one.
    pub(crate) fn forget(&self, name: &str) -> bool {
        self.logs.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
        self.write().roster.forget(name)
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
        match self.roster.find(name) {
            Found::Starting => Problem::starting(name),
            Found::Unknown | Found::Served(_) => {
                let known = self.roster.served().keys().chain(self.roster.resting().keys());
                Problem::unknown_endpoint(name, known)
            }
            Found::Parked | Found::Resting(_) => {
                let resting = &self.roster.resting()[name];
                let text = format!("`{name}` is {}: {}", resting.state.name(), resting.why);
                Problem::conflict("endpoint_not_served", text)
            }
        }
    }
}

impl Drop for Changing<'_> {
    fn drop(&mut self) {
        let mut known = self.endpoints.write();
        known.roster.changed(&self.name);
        known.coming.remove(&self.name);
        drop(known);
        self.endpoints.change.send_replace(());
    }
}
