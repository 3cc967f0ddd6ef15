//! Deploying endpoints, and removing them.

use crate::deploy_error::DeployError;
use crate::endpoint::Endpoint;
use crate::endpoint_name::check_name;
use crate::endpoints::{self, Changing, Endpoints};
use crate::event_log::{EventLog, SERVICE};
use crate::keeper::{Begins, FIRST};
use crate::loader::Loader;
use crate::order::Order;
use crate::placing::{Make, Opened, Placed, machine_of};
use crate::planned::PlannedEndpoint;
use crate::records::Records;
use crate::retire::retire;
use crate::standing::Life;
use crate::stop::Stop;
use serde_json::Value;
use std::sync::Arc;
use std::time::{Duration, Instant};
use vastrelay_serving::worker::protocol::Phase;
use vastrelay_serving::{LoadError, Model, Replica, ReplicaSettings};
use vastrelay_store::Standing;
use vastrelay_wire::manage::EventKind;

/// How long the calls of a release have to end that makes room for the next one.
const PAUSE: Duration = Duration::from_secs(60);

/// How an order would be served.
pub(crate) struct Check {
    /// The endpoint as it would be; why there is no room for it beside what is served under its name.
    pub planned: Result<Endpoint, String>,
    /// The release that is served under its name.
    pub served: Option<u32>,
    /// Whether anything would be different.
    pub is_change: bool,
    /// Whether its replicas would go on.
    pub at_once: bool,
    /// How many sequences fit of the typical length that the spec says.
    pub typical: Option<usize>,
}

/// What has to hold for a change.
#[derive(Clone, Copy, Debug, Default)]
pub struct Terms {
    /// The release that it begins from; any when absent.
    pub from_release: Option<u32>,
    /// Whether what is served may be stopped first, where memory has no room for both.
    pub with_pause: bool,
}

/// An endpoint that a service starts with, with its place.
pub struct PlannedAtStart<'e> {
    planned: PlannedEndpoint,
    changing: Changing<'e>,
}

impl PlannedAtStart<'_> {
    /// Returns the endpoint.
    pub fn endpoint(&self) -> &Arc<Endpoint> {
        self.planned.endpoint()
    }

    /// Starts its replica and waits until that takes requests.
    ///
    /// # Errors
    /// As of [`PlannedEndpoint::begin`].
    pub fn begin(self) -> Result<Arc<Endpoint>, DeployError> {
        let PlannedAtStart { planned, changing } = self;
        let begun = planned.begin();
        drop(changing);
        begun
    }
}

impl Loader {
    /// Loads the weights that an order names and serves them, on the first of its devices that has room; in the place of what is served under
    /// its name, whose calls are answered first. What is to be is kept for the next service.
    ///
    /// # Errors
    /// When the name cannot be one, the weights cannot be read, run or fitted, or the terms do not hold; what is served goes on then.
    pub fn deploy(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
        terms: Terms,
    ) -> Result<Arc<Endpoint>, DeployError> {
        let deployed = self.deploy_now(endpoints, records, order, terms);
        deployed.inspect_err(|error| match error {
            // The request was wrong, or came at the wrong time; nothing was tried.
            DeployError::Name(_) | DeployError::Stale { .. } | DeployError::Changing(_) => {}
            error => endpoints.note_failed(&order.name, error.to_string()),
        })
    }

    fn deploy_now(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
        terms: Terms,
    ) -> Result<Arc<Endpoint>, DeployError> {
        check_name(&order.name).map_err(DeployError::Name)?;
        let changing = endpoints.change(&order.name);
        let _changing = changing.map_err(|_| DeployError::Changing(order.name.clone()))?;
        let before = endpoints.resting().remove(&order.name);
        match endpoints.get(&order.name) {
            Ok(old) => self.change(endpoints, records, order, old, terms),
            Err(_) => self
                .plan(endpoints, records, order)?
                .begin()
                .inspect_err(|_| match before {
                    // It stays as it was: parked, stopped or failed.
                    Some(before) => drop(endpoints.rest(&order.name, before)),
                    // An endpoint that never served leaves no trace.
                    None => drop(endpoints.take(&order.name)),
                }),
        }
    }

    /// Plans an endpoint that a service starts with; other changes of it are refused until it has started. Returns nothing for an endpoint of an
    /// earlier service that a caller has stopped, parked, removed or deployed since this service started.
    ///
    /// # Errors
    /// As of [`Loader::plan`].
    pub fn plan_at_start<'e>(
        &self,
        endpoints: &'e Endpoints,
        records: &Arc<Records>,
        order: &Order,
        was_served: bool,
    ) -> Result<Option<PlannedAtStart<'e>>, DeployError> {
        // A caller is changing it: that change counts.
        let Ok(changing) = endpoints.change(&order.name) else {
            return Ok(None);
        };
        let is_wanted = !was_served
            || records
                .store
                .kept_endpoint(&order.name)?
                .is_some_and(|kept| kept.standing == Standing::Served);
        if !is_wanted || endpoints.get(&order.name).is_ok() {
            endpoints.withdraw(&order.name);
            return Ok(None);
        }
        let planned = self.plan(endpoints, records, order);
        let planned = planned.inspect_err(|error| match was_served {
            true => drop(endpoints.rest(&order.name, endpoints::failed_by(error))),
            false => endpoints.withdraw(&order.name),
        })?;
        Ok(Some(PlannedAtStart { planned, changing }))
    }

    /// Puts another release in the place of one that is served.
    fn change(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
        old: Arc<Endpoint>,
        terms: Terms,
    ) -> Result<Arc<Endpoint>, DeployError> {
        let name = &order.name;
        if let Some(from) = terms.from_release.filter(|from| *from != old.release) {
            let (name, now) = (name.clone(), old.release);
            return Err(DeployError::Stale { name, from, now });
        }
        let opened = self.open(order)?;
        if old.made_of() == Some(&opened.made_of) {
            // Its spec may be written differently all the same.
            records.store.keep_endpoint(&order.to_keep(), old.release)?;
            return Ok(old);
        }
        if old
            .made_of()
            .is_some_and(|before| before.has_machine_of(&opened.made_of))
        {
            return self.apply(endpoints, records, order, &old, &opened);
        }
        let prepare = || -> Result<PlannedEndpoint, DeployError> {
            let planned = self.prepare(endpoints, records, order, &opened)?;
            endpoints.announce_change(&planned.endpoint);
            Ok(planned)
        };
        let begun = match prepare() {
            Err(error) if error.is_for_want_of_room() && terms.with_pause => {
                self.make_room(endpoints, old)?;
                let begun = prepare().and_then(PlannedEndpoint::begin);
                begun.inspect_err(|_| self.restore(endpoints, records, name))
            }
            Err(error) if error.is_for_want_of_room() => Err(DeployError::NeedsPause {
                name: name.clone(),
                source: Box::new(error),
            }),
            planned => planned.and_then(PlannedEndpoint::begin),
        };
        let endpoint = begun?;
        if let Some(before) = endpoints.put(endpoint.clone()) {
            retire(before, None).map_err(|error| DeployError::load(name, LoadError::Thread(error)))?;
        }
        Ok(endpoint)
    }

    /// Puts a release in the place of one that differs from it only in how calls are answered and how long it is to be there: its replicas go on.
    fn apply(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
        old: &Endpoint,
        opened: &Opened,
    ) -> Result<Arc<Endpoint>, DeployError> {
        let release = records
            .store
            .release(&order.name, &opened.made_of.release_on(old.machine()))?;
        // Those who keep its replicas write into the same log.
        let log = old.log().cloned();
        let log = log.unwrap_or_else(|| EventLog::new(records, &order.name, release));
        log.goes_on_as(release);
        log.done_by(&order.by, EventKind::Deployed, "at once: its worker goes on");
        let endpoint = Arc::new(next_to(old, release, opened).logged_by(log));
        records.store.keep_endpoint(&order.to_keep(), release)?;
        endpoint.takes_the_crew();
        endpoints.put(endpoint.clone());
        Ok(endpoint)
    }

    /// Stops serving an endpoint, so that its memory is there for the next release; calls are told to come again meanwhile.
    fn make_room(&self, endpoints: &Endpoints, old: Arc<Endpoint>) -> Result<(), DeployError> {
        let name = old.name.clone();
        endpoints.announce([name.as_str()]);
        drop(old);
        if let Ok(taken) = endpoints.take(&name) {
            let retiring = retire(taken, Some(PAUSE));
            let retiring = retiring.map_err(|error| DeployError::load(&name, LoadError::Thread(error)))?;
            let _ = retiring.join();
        }
        Ok(())
    }

    /// Serves an endpoint again as it was kept.
    fn restore(&self, endpoints: &Endpoints, records: &Arc<Records>, name: &str) {
        let planned = self.plan_kept(endpoints, records, name, SERVICE);
        if let Err(error) = planned.and_then(PlannedEndpoint::begin) {
            endpoints.rest(name, endpoints::failed_by(&error));
        }
    }

    /// Plans an endpoint as it was kept, for somebody who wants it back.
    ///
    /// # Errors
    /// When nothing is kept of it, this version does not understand its spec, and as of [`Loader::plan`].
    pub(crate) fn plan_kept(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        name: &str,
        by: &str,
    ) -> Result<PlannedEndpoint, DeployError> {
        let kept = records.store.kept_endpoint(name)?;
        let kept = kept.ok_or_else(|| DeployError::NotKept(name.to_owned()))?;
        let order = Order::of_kept(&kept, by).map_err(|source| DeployError::Kept {
            name: name.to_owned(),
            source,
        })?;
        self.plan(endpoints, records, &order)
    }

    /// Plans an endpoint on the first of its devices that has room, and makes it known: calls wait for it from now on.
    ///
    /// # Errors
    /// When the name cannot be one or is taken, or the weights cannot be read or fitted.
    pub fn plan(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
    ) -> Result<PlannedEndpoint, DeployError> {
        check(endpoints, &order.name)?;
        let planned = self.prepare(endpoints, records, order, &self.open(order)?)?;
        endpoints.put(planned.endpoint.clone());
        Ok(planned)
    }

    /// Returns how an order would be served, without serving it or holding its memory.
    ///
    /// # Errors
    /// As of [`Loader::deploy`].
    pub(crate) fn check(&self, endpoints: &Endpoints, order: &Order) -> Result<Check, DeployError> {
        check_name(&order.name).map_err(DeployError::Name)?;
        let served = endpoints.get(&order.name).ok();
        let opened = self.open(order)?;
        let before = served.as_ref().and_then(|endpoint| endpoint.made_of());
        let is_change = before != Some(&opened.made_of);
        let at_once = before.is_some_and(|before| before.has_machine_of(&opened.made_of));
        let planned = match &served {
            Some(old) if at_once => Ok(next_to(old, 0, &opened)),
            _ => self.planned(endpoints, order, &opened, served.is_some())?,
        };
        let typical = opened.made_of.settings.typical.zip(planned.as_ref().ok());
        let typical = typical.map(|(typical, endpoint)| {
            let step_budget = endpoint.limits().step_budget;
            endpoint.plan.memory.sequences_of(typical.tokens(), step_budget)
        });
        Ok(Check {
            typical,
            planned,
            served: served.as_ref().map(|endpoint| endpoint.release),
            is_change,
            at_once,
        })
    }

    /// Returns an order's endpoint as it would begin; where there is no room beside one that is served, why.
    fn planned(
        &self,
        endpoints: &Endpoints,
        order: &Order,
        opened: &Opened,
        is_served: bool,
    ) -> Result<Result<Endpoint, String>, DeployError> {
        let Placed { plan, .. } = match self.place_in_time(endpoints, order, opened, Make::Later) {
            Ok(placed) => placed,
            Err(error) if is_served && error.is_for_want_of_room() => return Ok(Err(error.to_string())),
            Err(error) => return Err(error),
        };
        let endpoint = Endpoint::new(&order.name, 0, opened.model.clone(), Arc::new(plan));
        endpoint.crew.comes_back(FIRST, Life::Starting(Phase::StartingWorker));
        Ok(Ok(endpoint))
    }

    /// Plans an endpoint that nobody can call yet.
    fn prepare(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
        opened: &Opened,
    ) -> Result<PlannedEndpoint, DeployError> {
        let Opened { made_of, manner, .. } = opened;
        let (name, wanted) = (&order.name, Instant::now());
        let Placed {
            plan,
            way,
            build: ready,
        } = self.place_in_time(endpoints, order, opened, Make::Now)?;
        let model = opened.model.clone();
        // Converting has its own time.
        let wanted = wanted + ready.as_ref().and_then(|ready| ready.took).unwrap_or_default();
        let machine = machine_of(&model, &plan, &way, &made_of.weights);
        let release = records.store.release(name, &made_of.release_on(&machine))?;
        if let Some(ready) = &ready {
            records.store.note_use_of_build(&ready.digest, name, release)?;
        }
        let log = EventLog::new(records, name, release);
        let endpoint = Endpoint::new(name, release, model, Arc::new(plan))
            .made_of_this(made_of.clone(), machine)
            .read_from(opened.files.path())
            .minded(manner.clone(), made_of.upkeep)
            .logged_by(log.clone());
        let stop = Arc::new(Stop::default());
        if self.workers.is_some() {
            endpoint.crew.is_kept_by(stop.clone());
        }
        endpoint.takes_the_crew();
        endpoint.crew.comes_back(FIRST, Life::Starting(Phase::StartingWorker));
        Ok(PlannedEndpoint {
            endpoint: Arc::new(endpoint),
            order: order.clone(),
            log,
            records: records.clone(),
            workers: self.workers.clone(),
            stop,
            what: EventKind::Deployed,
            said: endpoints.worker_log(name),
            wanted,
            built: ready.and_then(|ready| ready.took),
        })
    }

    /// Serves a replica that is there already, as the first one of an endpoint; `weights` tells them from others.
    ///
    /// # Errors
    /// When the name is taken, or the release cannot be recorded.
    pub fn serve(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        name: &str,
        model: Arc<Model>,
        mut replica: Replica,
        way: &ReplicaSettings,
        weights: &Value,
    ) -> Result<Arc<Endpoint>, DeployError> {
        let release = records
            .store
            .release(name, &machine_of(&model, &replica.plan, way, weights).to_string())?;
        let begins = Begins {
            records: records.clone(),
            endpoint: name.to_owned(),
            log: EventLog::new(records, name, release),
            replica: replica.number,
        };
        replica.incarnation = begins.incarnation();
        let endpoint = Endpoint::new(name, release, model, replica.plan.clone());
        endpoint.crew.place(replica);
        check(endpoints, name)?;
        let endpoint = Arc::new(endpoint);
        endpoints.put(endpoint.clone());
        Ok(endpoint)
    }
}

/// Returns a release that is served by the replicas of the one before.
fn next_to(old: &Endpoint, release: u32, opened: &Opened) -> Endpoint {
    let Opened { made_of, manner, .. } = opened;
    Endpoint::with_crew_of(old, release)
        .made_of_this(made_of.clone(), old.machine().clone())
        .read_from(opened.files.path())
        .minded(manner.clone(), made_of.upkeep)
}

/// Makes sure that a name can be one and is free.
///
/// # Errors
/// When it cannot be, or is not.
pub(crate) fn check(endpoints: &Endpoints, name: &str) -> Result<(), DeployError> {
    check_name(name).map_err(DeployError::Name)?;
    match endpoints.get(name) {
        Ok(_) => Err(DeployError::Taken(name.to_owned())),
        Err(_) => Ok(()),
    }
}
