//! Endpoints that are parked while nobody calls them, and unparked by the next call.

use crate::endpoint::Endpoint;
use crate::endpoints::{self, Endpoints, Resting};
use crate::event_log::{EventLog, SERVICE};
use crate::halt;
use crate::loader::Loader;
use crate::problem::Problem;
use crate::records::Records;
use crate::retire::retire;
use crate::standing::NotReady;
use std::sync::Arc;
use std::time::{Duration, Instant};
use vastrelay_fleet::roster::Rouse;
use vastrelay_fleet::upkeep::Due;
use vastrelay_store::Standing;
use vastrelay_wire::manage::EventKind;

/// How long calls have to end of an endpoint whose time is over.
const LAST_CALLS: Duration = Duration::from_secs(30);

/// What is needed to start an endpoint for a call.
#[derive(Clone)]
pub struct Rouser {
    pub(crate) endpoints: Arc<Endpoints>,
    pub(crate) loader: Arc<Loader>,
    pub(crate) records: Arc<Records>,
}

/// Parks and stops endpoints for which it is time; waits for the database.
pub(crate) fn look(rouser: &Rouser) {
    for (name, due) in due(&rouser.endpoints) {
        match due {
            Due::Park => rouser.park(&name),
            Due::Stop => rouser.stop(&name),
        }
    }
}

/// Returns what is due for endpoints, as far as one can see without holding them.
fn due(endpoints: &Endpoints) -> Vec<(String, Due)> {
    let all = endpoints.all().into_iter();
    let due = all.filter_map(|endpoint| Some((endpoint.name.clone(), endpoint.due(is_used(&endpoint))?)));
    due.collect()
}

/// Whether somebody holds an endpoint besides the list of all and the caller.
fn is_used(endpoint: &Arc<Endpoint>) -> bool {
    Arc::strong_count(endpoint) > 2
}

impl Rouser {
    /// Parks an endpoint that nobody uses.
    fn park(&self, name: &str) {
        // Whoever changes it just now has other plans.
        let Ok(_changing) = self.endpoints.change(name) else {
            return;
        };
        let of = |endpoint: Arc<Endpoint>| (endpoint.upkeep.idle_after, endpoint.manner.said.longest_wait);
        let Ok((idle_for, longest)) = self.endpoints.get(name).map(of) else {
            return;
        };
        let why = format!("nobody called it for {} s", idle_for.unwrap_or_default().as_secs_f64());
        let Some(endpoint) = self.endpoints.take_idle(name, endpoints::parked(why.clone(), longest)) else {
            return;
        };
        self.put_down(&endpoint, SERVICE, why);
    }

    /// Parks an endpoint because somebody wants it: its calls have so long to end, and end with an error then.
    ///
    /// # Errors
    /// When there is none that is served, or somebody else changes it.
    pub fn park_now(&self, name: &str, within: Duration, by: &str) -> Result<(), Problem> {
        let _changing = self.endpoints.change(name)?;
        let endpoint = self.endpoints.get(name)?;
        let why = match by {
            "" => "somebody has parked it".into(),
            by => format!("{by} has parked it"),
        };
        let longest = endpoint.manner.said.longest_wait;
        self.endpoints.rest(name, endpoints::parked(why.clone(), longest));
        self.put_down(&endpoint, by, why);
        let retiring = retire(endpoint, Some(within));
        retiring.map_err(|error| Problem::internal(error.to_string()))?;
        Ok(())
    }

    fn put_down(&self, endpoint: &Endpoint, by: &str, why: String) {
        if let Err(error) = self.records.store.stand(&endpoint.name, Standing::Parked) {
            tracing::warn!(endpoint = endpoint.name, %error, "the next service will not know that it is parked");
        }
        let log = endpoint.log().cloned();
        let log = log.unwrap_or_else(|| EventLog::new(&self.records, &endpoint.name, endpoint.release));
        log.done_by(by, EventKind::Parked, why);
        tracing::info!(endpoint = endpoint.name, "parked");
    }

    /// Stops an endpoint whose time is over.
    fn stop(&self, name: &str) {
        let stopped = halt::stop(&self.endpoints, &self.records, name, LAST_CALLS, SERVICE);
        if let Err(problem) = stopped {
            tracing::debug!(endpoint = name, %problem, "not stopped yet");
        }
    }

    /// Waits until an endpoint is there that was parked; starts it, unless somebody else does.
    ///
    /// # Errors
    /// When it cannot be started, or is stopped or removed meanwhile.
    pub async fn rouse(&self, name: &str, by: &str) -> Result<(), Problem> {
        let (mut change, began) = (self.endpoints.changes(), Instant::now());
        let longest = self.endpoints.longest_wait(name);
        let until = longest.and_then(|longest| began.checked_add(longest));
        loop {
            match self.endpoints.rouse(name, began)? {
                Rouse::There => return Ok(()),
                Rouse::Wait | Rouse::GiveUp => {}
                Rouse::Start => self.start(name, by),
            }
            // The sender is the endpoints' own.
            let changed = change.changed();
            match until {
                None => drop(changed.await),
                Some(until) => {
                    let waited = tokio::time::timeout_at(until.into(), changed).await;
                    waited
                        .map_err(|_| Problem::not_ready(&NotReady::Starting(longest.unwrap_or_default())))?
                        .ok();
                }
            }
        }
    }

    /// Starts an endpoint on a thread of its own.
    fn start(&self, name: &str, by: &str) {
        let (rouser, named, by) = (self.clone(), name.to_owned(), by.to_owned());
        let work = move || {
            if let Err(resting) = rouser.unpark(&named, &by) {
                rouser.endpoints.rest(&named, resting);
            }
        };
        if let Err(error) = std::thread::Builder::new().name("unpark".into()).spawn(work) {
            let longest = self.endpoints.longest_wait(name);
            self.endpoints
                .rest(name, endpoints::parked_in_vain(error.to_string(), longest));
        }
    }

    /// Serves an endpoint again as it was kept.
    ///
    /// # Errors
    /// How it rests when it cannot be.
    fn unpark(&self, name: &str, by: &str) -> Result<(), Resting> {
        // Who has other plans with it goes first; calls look again then.
        let changing = self.endpoints.change(name);
        if changing.is_err() || !self.endpoints.is_parked(name) {
            self.endpoints.withdraw(name);
            return Ok(());
        }
        let planned = self.loader.plan_kept(&self.endpoints, &self.records, name, by);
        let planned = planned.map_err(|error| match error.may_pass() {
            true => endpoints::parked_in_vain(error.to_string(), self.endpoints.longest_wait(name)),
            false => endpoints::failed(error.to_string()),
        })?;
        // Calls wait for it from now on; one that does not start is tried again by whoever keeps it.
        if let Err(error) = planned.put_down_as(EventKind::Unparked).begin() {
            tracing::error!(endpoint = name, %error, "a parked endpoint does not start");
        }
        Ok(())
    }
}
