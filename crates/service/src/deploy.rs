//! Deploying endpoints, and removing them.

use crate::builds::{Builds, Ready};
use crate::endpoint::Endpoint;
use crate::endpoint_name::check_name;
use crate::endpoints::{self, Endpoints};
use crate::event_log::{EventLog, SERVICE};
use crate::keeper::{Begins, Starter};
use crate::made_of::{MadeOf, weights_of};
use crate::manner::Manner;
use crate::order::Order;
use crate::problem::Problem;
use crate::records::Records;
use crate::retire::{retire, wait_for_memory};
use crate::standing::Life;
use crate::stop::Stop;
use crate::worker_log::WorkerLog;
use crate::workers::Workers;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use vastrelay_fleet::{Settings, Spec, SpecError};
use vastrelay_serving::cpu::CpuHardware;
use vastrelay_serving::worker::protocol::Phase;
use vastrelay_serving::{Devices, Isa, LoadError, Model, Models, Plan, Precision, Replica, ReplicaSettings};
use vastrelay_store::StoreError;
use vastrelay_weights::{Build, ModelFiles};
use vastrelay_wire::manage::EventKind;

/// The number of an endpoint's first replica.
const FIRST: u32 = 1;
/// How long the calls of a release have to end that makes room for the next one.
const PAUSE: Duration = Duration::from_secs(60);

/// How endpoints are deployed.
pub struct Loader {
    /// Settings of each of them, where nothing else is said.
    pub defaults: Settings,
    /// Where they run.
    pub devices: Devices,
    /// Instructions of the processor's kernels.
    pub isa: Isa,
    /// Where the processor's profile is kept, once its speed was measured.
    pub cpu_profile: PathBuf,
    /// The text sides of models in use.
    pub models: Models,
    /// Where the demo's weights are unpacked.
    pub data: PathBuf,
    /// Unpacks them and returns their folder.
    pub unpack_demo: fn(&Path) -> Result<PathBuf, String>,
    /// Runs each replica in a process of its own; in this one when absent.
    pub workers: Option<Arc<Workers>>,
    /// Converts models once; each worker does when absent.
    pub builds: Option<Builds>,
}

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

/// What an order names, opened once.
struct Opened {
    files: ModelFiles,
    model: Arc<Model>,
    manner: Arc<Manner>,
    made_of: MadeOf,
}

/// What has to hold for a change.
#[derive(Clone, Copy, Debug, Default)]
pub struct Terms {
    /// The release that it begins from; any when absent.
    pub from_release: Option<u32>,
    /// Whether what is served may be stopped first, where memory has no room for both.
    pub with_pause: bool,
}

/// An endpoint that has its place and does not run yet.
pub struct PlannedEndpoint {
    endpoint: Arc<Endpoint>,
    order: Order,
    log: EventLog,
    records: Arc<Records>,
    workers: Option<Arc<Workers>>,
    stop: Arc<Stop>,
    /// What its beginning is, to those who look back.
    what: EventKind,
    /// Takes what its workers say.
    said: Arc<WorkerLog>,
    /// When somebody wanted it.
    wanted: Instant,
    /// How long its build took before, where one was made.
    built: Option<Duration>,
}

/// Why an endpoint cannot be deployed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DeployError {
    /// Its name cannot be one.
    #[error("{0}")]
    Name(String),
    /// Its name is taken.
    #[error("there is an endpoint `{0}` already; choose another name")]
    Taken(String),
    /// Its model cannot be loaded.
    #[error("`{name}` cannot be served: {source}")]
    Load {
        /// The endpoint.
        name: String,
        /// Why.
        source: Box<LoadError>,
    },
    /// Somebody else changes it.
    #[error("somebody else changes `{0}` just now; try again when that is done")]
    Changing(String),
    /// Another release is served than the change began from.
    #[error(
        "`{name}` is served as release {now}, not {from}: somebody has changed it meanwhile; look at it again and deploy then"
    )]
    Stale {
        /// The endpoint.
        name: String,
        /// The release that the change began from.
        from: u32,
        /// The one that is served.
        now: u32,
    },
    /// There is no room for both releases.
    #[error(
        "there is no room beside what `{name}` holds now; with a pause for its callers it can be stopped first (`with_pause`): {source}"
    )]
    NeedsPause {
        /// The endpoint.
        name: String,
        /// What would be needed.
        source: Box<DeployError>,
    },
    /// Its release cannot be recorded.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Loader {
    /// Returns the processor as models are fitted to it, where its speed was measured with the cores and instructions that replicas have.
    pub(crate) fn cpu(&self) -> Option<CpuHardware> {
        let cores = self.devices.cores().usual(1);
        let speed = CpuHardware::kept_speed(&self.cpu_profile, self.isa, cores)?;
        let cpu = self.devices.all().into_iter().next()?;
        Some(CpuHardware {
            memory: cpu.total(),
            cores,
            price: 0.0,
            speed,
        })
    }

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
        check_name(&order.name).map_err(DeployError::Name)?;
        let changing = endpoints.change(&order.name);
        let _changing = changing.map_err(|_| DeployError::Changing(order.name.clone()))?;
        match endpoints.get(&order.name) {
            Ok(old) => self.change(endpoints, records, order, old, terms),
            Err(_) => self.plan(endpoints, records, order)?.begin().inspect_err(|error| {
                // What was never served is not kept.
                match records.store.kept_endpoint(&order.name) {
                    Ok(Some(_)) => drop(endpoints.rest(&order.name, endpoints::failed(error.to_string()))),
                    _ => drop(endpoints.take(&order.name)),
                }
            }),
        }
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
        let log = EventLog::new(records, &order.name, release);
        log.done_by(&order.by, EventKind::Deployed, "at once: its worker goes on");
        let endpoint = Arc::new(next_to(old, release, opened).logged_by(log));
        records.store.keep_endpoint(&order.to_keep(), release)?;
        endpoint.takes_the_crew();
        endpoints.put(endpoint.clone());
        Ok(endpoint)
    }

    /// Stops serving an endpoint, so that its memory is there for the next release; calls are told to come again meanwhile.
    fn make_room(&self, endpoints: &Endpoints, old: Arc<Endpoint>) -> Result<(), DeployError> {
        let (name, held) = (old.name.clone(), Arc::downgrade(&old.plan.held));
        endpoints.announce([name.as_str()]);
        drop(old);
        if let Ok(taken) = endpoints.take(&name) {
            let retiring = retire(taken, Some(PAUSE));
            let retiring = retiring.map_err(|error| DeployError::load(&name, LoadError::Thread(error)))?;
            let _ = retiring.join();
        }
        wait_for_memory(&held);
        Ok(())
    }

    /// Serves an endpoint again as it was kept.
    fn restore(&self, endpoints: &Endpoints, records: &Arc<Records>, name: &str) {
        let kept = records.store.kept_endpoint(name).map_err(|error| error.to_string());
        let order = kept.and_then(|kept| {
            let kept = kept.ok_or("nothing is kept of it")?;
            Order::of_kept(&kept, SERVICE).map_err(|error| error.to_string())
        });
        let begun = order.and_then(|order| {
            let begun = self.plan(endpoints, records, &order).and_then(PlannedEndpoint::begin);
            begun.map_err(|error| error.to_string())
        });
        if let Err(why) = begun {
            endpoints.rest(name, endpoints::failed(why));
        }
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
            _ => self.planned(order, &opened, served.is_some())?,
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
        order: &Order,
        opened: &Opened,
        is_served: bool,
    ) -> Result<Result<Endpoint, String>, DeployError> {
        // What has still to be converted takes as much as what was.
        let (plan, _) = match self.place(order, &opened.files, &opened.model, &opened.made_of.settings) {
            Ok(placed) => placed,
            Err(error) if is_served && error.is_for_want_of_room() => return Ok(Err(error.to_string())),
            Err(error) => return Err(error),
        };
        let endpoint = Endpoint::new(&order.name, 0, opened.model.clone(), Arc::new(plan));
        endpoint.crew.comes_back(FIRST, Life::Starting(Phase::StartingWorker));
        Ok(Ok(endpoint))
    }

    /// Opens what an order names.
    fn open(&self, order: &Order) -> Result<Opened, DeployError> {
        let (path, failed) = (order.model(), |source| DeployError::load(&order.name, source));
        let files = ModelFiles::open(&path).map_err(|error| failed(error.into()))?;
        let model = self.models.open(&files).map_err(failed)?;
        let Spec { answering, upkeep, .. } = &order.spec;
        let manner = Manner::read(answering, &order.beside, &model).map_err(failed)?;
        let made_of = MadeOf {
            content: model.content.clone(),
            weights: weights_of(&path),
            settings: order.spec.settings.clone().or(&self.defaults),
            answering: answering.clone(),
            template: manner.own_template().map(str::to_owned),
            upkeep: *upkeep,
        };
        Ok(Opened {
            files,
            model,
            made_of,
            manner: Arc::new(manner),
        })
    }

    /// Returns the build that an order is served from, made now unless it is there; nothing where the model's own files are read.
    fn build(&self, order: &Order, opened: &Opened) -> Result<Option<Ready>, DeployError> {
        let Settings {
            weights, kv, devices, ..
        } = &opened.made_of.settings;
        let is_for_cpu = devices
            .as_ref()
            .is_none_or(|devices| devices.iter().all(|device| device == "cpu"));
        let wanted = weights.filter(|weights| *weights != Precision::AsStored && is_for_cpu);
        let (Some(builds), Some(weights)) = (&self.builds, wanted) else {
            return Ok(None);
        };
        if Build::is_one(opened.files.path()) {
            return Ok(None);
        }
        let ready = builds.ensure(order, &opened.files, weights, *kv);
        ready.map(Some).map_err(|error| DeployError::load(&order.name, error))
    }

    /// Finds a place for what an order is served from.
    fn place_build(
        &self,
        order: &Order,
        opened: &Opened,
        ready: &Ready,
    ) -> Result<(Plan, ReplicaSettings, Arc<Model>), DeployError> {
        let failed = |source| DeployError::load(&order.name, source);
        let files = ModelFiles::open(&ready.folder).map_err(|error| failed(error.into()))?;
        let model = self.models.open(&files).map_err(failed)?;
        let settings = Settings {
            weights: None,
            ..opened.made_of.settings.clone()
        };
        let (plan, way) = self.place(order, &files, &model, &settings)?;
        Ok((plan, way, model))
    }

    /// Finds a place for a model, and holds its memory.
    fn place(
        &self,
        order: &Order,
        files: &ModelFiles,
        model: &Model,
        settings: &Settings,
    ) -> Result<(Plan, ReplicaSettings), DeployError> {
        let (name, failed) = (&order.name, |source| DeployError::load(&order.name, source));
        let ways = self.ways(settings, &order.beside).map_err(failed)?;
        let (plan, way) = first_with_room(name, model, files, &ways).map_err(failed)?;
        Ok((plan, way.clone()))
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
        let mut ready = self.build(order, opened)?;
        let (name, wanted) = (&order.name, Instant::now());
        let (plan, way, model) = match &ready {
            None => {
                let (plan, way) = self.place(order, &opened.files, &opened.model, &made_of.settings)?;
                (plan, way, opened.model.clone())
            }
            Some(there) => match self.place_build(order, opened, there) {
                // What was found is not what was written: it is made anew.
                Err(error) if there.took.is_none() && !error.is_for_want_of_room() => {
                    self.builds.iter().for_each(|builds| builds.discard(there));
                    ready = self.build(order, opened)?;
                    let again = ready.as_ref().ok_or(error)?;
                    self.place_build(order, opened, again)?
                }
                placed => placed?,
            },
        };
        let machine = machine_of(&model, &plan, &way, &made_of.weights);
        let release = records.store.release(name, &made_of.release_on(&machine))?;
        if let Some(ready) = &ready {
            records.store.note_use_of_build(&ready.digest, name, release)?;
        }
        let log = EventLog::new(records, name, release);
        let endpoint = Endpoint::new(name, release, model, Arc::new(plan))
            .made_of_this(made_of.clone(), machine)
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
            release,
            replica: replica.number,
        };
        replica.incarnation = begins.incarnation()?;
        let endpoint = Endpoint::new(name, release, model, replica.plan.clone());
        endpoint.crew.place(replica);
        check(endpoints, name)?;
        let endpoint = Arc::new(endpoint);
        endpoints.put(endpoint.clone());
        Ok(endpoint)
    }
}

impl PlannedEndpoint {
    /// Returns it as one whose beginning is something else than a deployment.
    pub(crate) fn put_down_as(mut self, what: EventKind) -> PlannedEndpoint {
        self.what = what;
        self
    }

    /// Returns the endpoint.
    pub fn endpoint(&self) -> &Arc<Endpoint> {
        &self.endpoint
    }

    /// Starts its replica and waits until that takes requests. Somebody keeps it alive from then on, or tries again later when it cannot be
    /// started.
    ///
    /// # Errors
    /// When the weights cannot be loaded, or the life of the replica cannot be recorded.
    pub fn begin(self) -> Result<Arc<Endpoint>, DeployError> {
        let (records, order) = (self.records.clone(), self.order.clone());
        let from = format!("from {}", order.model().display());
        self.log.done_by(&order.by, self.what, from);
        let endpoint = self.begin_replica()?;
        // What has been served once is brought back by the next service.
        records.store.keep_endpoint(&order.to_keep(), endpoint.release)?;
        Ok(endpoint)
    }

    fn begin_replica(self) -> Result<Arc<Endpoint>, DeployError> {
        let endpoint = self.endpoint;
        let failed = |error| DeployError::load(&endpoint.name, error);
        let begins = Begins {
            records: self.records,
            endpoint: endpoint.name.clone(),
            release: endpoint.release,
            replica: FIRST,
        };
        let Some(workers) = self.workers else {
            let incarnation = begins.incarnation()?;
            let replica = endpoint.plan.load_here(&endpoint.model).map_err(failed)?;
            endpoint.crew.place(Replica { incarnation, ..replica });
            return Ok(endpoint);
        };
        let (stop, kept) = (self.stop, Arc::downgrade(&endpoint.crew));
        let starter = Starter {
            workers: workers.clone(),
            plan: endpoint.plan.clone(),
            model: endpoint.model.clone(),
            manner: endpoint.manner.clone(),
            begins,
            log: self.log,
            said: self.said,
            wanted: Mutex::new(Some((self.wanted, self.built))),
        };
        let first = starter.begin(&kept).map(|(replica, begun)| {
            endpoint.crew.place(replica);
            begun
        });
        let failure = first.as_ref().err().map(|stillborn| failed(stillborn.into()));
        let keeper = move || starter.keep(&kept, first, &stop);
        workers.keep(keeper).map_err(|error| failed(LoadError::Thread(error)))?;
        failure.map_or(Ok(endpoint), Err)
    }
}

impl DeployError {
    /// Returns where in a spec something stands that cannot be served, and why, where that is what it is about.
    pub fn refused_in(&self, spec: &Spec) -> Option<SpecError> {
        let DeployError::Load { source, .. } = self else {
            return None;
        };
        Some(match &**source {
            LoadError::Setting { key, text } => spec.refuse(key, format!("`{key}`: {text}")),
            error if error.is_for_want_of_room() => spec.refuse("device.profile", error.to_string()),
            error => spec.refuse("model", error.to_string()),
        })
    }

    /// Returns whether it would work on a device with more memory, or less on it.
    pub(crate) fn is_for_want_of_room(&self) -> bool {
        matches!(self, DeployError::Load { source, .. } if source.is_for_want_of_room())
    }

    fn load(name: &str, source: LoadError) -> DeployError {
        DeployError::Load {
            name: name.to_owned(),
            source: Box::new(source),
        }
    }
}

/// Returns a release that is served by the replicas of the one before.
fn next_to(old: &Endpoint, release: u32, opened: &Opened) -> Endpoint {
    let Opened { made_of, manner, .. } = opened;
    Endpoint::with_crew_of(old, release)
        .made_of_this(made_of.clone(), old.machine().clone())
        .minded(manner.clone(), made_of.upkeep)
}

/// Returns the machine's part of what makes a release, as JSON: another one has other settings.
fn machine_of(model: &Model, plan: &Plan, way: &ReplicaSettings, weights: &Value) -> Value {
    let limits = &plan.assignment.limits;
    json!({
        "model": model.content,
        "weights": weights,
        "precision": plan.precisions,
        "device": plan.device.name(),
        "cores": plan.cores,
        "split": plan.assignment.split,
        "width": limits.width,
        "step_budget": limits.step_budget,
        "context": limits.context,
        "queue_depth": limits.queue_depth,
        "queue_wait_ms": limits.queue_wait.map(|wait| wait.as_millis() as u64),
        "prefill_chunk": limits.prefill_chunk,
        "memory_share": way.memory_share,
        "pages": way.pages,
    })
}

/// Plans a model in the first of several ways whose device has room.
fn first_with_room<'w>(
    name: &str,
    model: &Model,
    files: &ModelFiles,
    ways: &'w [ReplicaSettings],
) -> Result<(Plan, &'w ReplicaSettings), LoadError> {
    let mut full = Vec::new();
    for way in ways {
        match Plan::new(name, model, files, way) {
            Ok(plan) => return Ok((plan, way)),
            Err(error) if error.is_for_want_of_room() => full.push(error),
            Err(error) => return Err(error),
        }
    }
    match full.len() {
        1 => Err(full.remove(0)),
        _ => Err(LoadError::NoRoom(full)),
    }
}

impl From<DeployError> for Problem {
    fn from(error: DeployError) -> Problem {
        let text = error.to_string();
        match error {
            DeployError::Name(_) => Problem::field("name", text),
            DeployError::Taken(_) => Problem::conflict("name_taken", text),
            DeployError::Changing(_) => Problem::conflict("endpoint_changing", text),
            DeployError::Stale { .. } => Problem::conflict("release_changed", text),
            DeployError::NeedsPause { .. } => Problem::conflict("pause_needed", text),
            DeployError::Load { .. } => Problem::field("path", text),
            DeployError::Store(_) => Problem::internal(text),
        }
    }
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
