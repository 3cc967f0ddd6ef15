//! Deploying endpoints, and removing them.

use crate::endpoint::Endpoint;
use crate::endpoints::Endpoints;
use crate::event_log::EventLog;
use crate::keeper::{Begins, Starter};
use crate::problem::Problem;
use crate::records::Records;
use crate::standing::Life;
use crate::stop::Stop;
use crate::workers::Workers;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::UNIX_EPOCH;
use vastrelay_fleet::Settings;
use vastrelay_serving::cpu::CpuHardware;
use vastrelay_serving::worker::protocol::Phase;
use vastrelay_serving::{Devices, Isa, LoadError, Model, Models, Plan, Replica, ReplicaSettings};
use vastrelay_store::StoreError;
use vastrelay_weights::ModelFiles;
use vastrelay_wire::manage::EventKind;

/// The number of an endpoint's first replica.
const FIRST: u32 = 1;
/// Longest name of an endpoint.
const LONGEST_NAME: usize = 100;

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
}

/// An endpoint that is to be.
pub struct Order {
    /// Its name.
    pub name: String,
    /// The path of its model.
    pub model: PathBuf,
    /// How it is to be run, as far as somebody has said.
    pub settings: Settings,
    /// The folder that paths of device profiles begin at.
    pub beside: PathBuf,
    /// Who wants it: the name of a key, or [`START`](crate::event_log::START).
    pub by: String,
}

impl Order {
    /// Returns somebody's order of an endpoint of which nothing but its model is said.
    pub fn plain(name: &str, model: &Path, by: &str) -> Order {
        Order {
            name: name.to_owned(),
            model: model.to_owned(),
            settings: Settings::default(),
            beside: PathBuf::new(),
            by: by.to_owned(),
        }
    }
}

/// An endpoint that has its place and does not run yet.
pub struct PlannedEndpoint {
    endpoint: Arc<Endpoint>,
    log: EventLog,
    records: Arc<Records>,
    workers: Option<Arc<Workers>>,
    stop: Arc<Stop>,
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

    /// Loads the weights that an order names and serves them, on the first of its devices that has room.
    ///
    /// # Errors
    /// When the name cannot be one or is taken, or the weights cannot be read, run or fitted.
    pub fn deploy(
        &self,
        endpoints: &Endpoints,
        records: &Arc<Records>,
        order: &Order,
    ) -> Result<Arc<Endpoint>, DeployError> {
        let begun = self.plan(endpoints, records, order)?.begin();
        begun.inspect_err(|_| drop(endpoints.remove(&order.name)))
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
        let (name, path) = (&order.name, &order.model);
        check(endpoints, name)?;
        let failed = |source| DeployError::load(name, source);
        let settings = order.settings.clone().or(&self.defaults);
        let ways = self.ways(&settings, &order.beside).map_err(failed)?;
        let files = ModelFiles::open(path).map_err(|error| failed(error.into()))?;
        let model = self.models.open(&files).map_err(failed)?;
        let (plan, way) = first_with_room(name, &model, &files, &ways).map_err(failed)?;
        let settings = release_of(&model, &plan, way, &weights_of(path));
        let release = records.store.release(name, &settings)?;
        let log = EventLog::new(records, name, release);
        let mut endpoint = Endpoint::new(name, release, model, Arc::new(plan)).logged_by(log.clone());
        let stop = Arc::new(Stop::default());
        if self.workers.is_some() {
            endpoint = endpoint.kept_by(stop.clone());
        }
        endpoint.comes_back(FIRST, Life::Starting(Phase::StartingWorker));
        let endpoint = add(endpoints, Arc::new(endpoint))?;
        log.done_by(&order.by, EventKind::Deployed, format!("from {}", path.display()));
        Ok(PlannedEndpoint {
            endpoint,
            log,
            records: records.clone(),
            workers: self.workers.clone(),
            stop,
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
            .release(name, &release_of(&model, &replica.plan, way, weights))?;
        let begins = Begins {
            records: records.clone(),
            endpoint: name.to_owned(),
            release,
            replica: replica.number,
        };
        replica.incarnation = begins.incarnation()?;
        let endpoint = Endpoint::new(name, release, model, replica.plan.clone());
        endpoint.place(replica);
        add(endpoints, Arc::new(endpoint))
    }
}

impl PlannedEndpoint {
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
            endpoint.place(Replica { incarnation, ..replica });
            return Ok(endpoint);
        };
        let (stop, kept) = (self.stop, Arc::downgrade(&endpoint));
        let starter = Starter {
            workers: workers.clone(),
            plan: endpoint.plan.clone(),
            model: endpoint.model.clone(),
            begins,
            log: self.log,
        };
        let first = starter.begin(&kept).map(|(replica, begun)| {
            endpoint.place(replica);
            begun
        });
        let failure = first.as_ref().err().map(|stillborn| failed(stillborn.into()));
        let keeper = move || starter.keep(&kept, first, &stop);
        workers.keep(keeper).map_err(|error| failed(LoadError::Thread(error)))?;
        failure.map_or(Ok(endpoint), Err)
    }
}

impl DeployError {
    fn load(name: &str, source: LoadError) -> DeployError {
        DeployError::Load {
            name: name.to_owned(),
            source: Box::new(source),
        }
    }
}

/// Serves an endpoint from now on.
fn add(endpoints: &Endpoints, endpoint: Arc<Endpoint>) -> Result<Arc<Endpoint>, DeployError> {
    tracing::info!(endpoint = endpoint.name, release = endpoint.release, "deployed");
    // Somebody may have been faster.
    let name = endpoint.name.clone();
    endpoints.add(endpoint).ok_or(DeployError::Taken(name))
}

/// Returns what makes a release, as JSON: another one has other settings.
fn release_of(model: &Model, plan: &Plan, way: &ReplicaSettings, weights: &Value) -> String {
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
    .to_string()
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

/// Returns what tells weights from others without reading them all: their files' names, sizes and times.
fn weights_of(path: &Path) -> Value {
    let mark = |file: &Path| -> Option<Value> {
        let facts = file.metadata().ok().filter(|facts| facts.is_file())?;
        let changed = facts.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
        Some(json!([
            file.file_name()?.to_string_lossy(),
            facts.len(),
            changed.as_millis() as u64
        ]))
    };
    if path.is_file() {
        return json!([mark(path)]);
    }
    let is_weights = |file: &PathBuf| file.extension().is_some_and(|end| end == "safetensors");
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(is_weights).collect();
    files.sort();
    files.iter().map(|file| mark(file)).collect()
}

impl From<DeployError> for Problem {
    fn from(error: DeployError) -> Problem {
        let text = error.to_string();
        match error {
            DeployError::Name(_) => Problem::field("name", text),
            DeployError::Taken(_) => Problem::conflict("name_taken", text),
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

/// Checks an endpoint's name: it stands in addresses, logs and metrics.
///
/// # Errors
/// What is wrong, and what works.
pub fn check_name(name: &str) -> Result<(), String> {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.@/".contains(&byte);
    let is_segment = |part: &str| !part.is_empty() && part != "." && part != "..";
    if name.len() <= LONGEST_NAME && name.bytes().all(plain) && name.split('/').all(is_segment) {
        return Ok(());
    }
    let shown: String = name.chars().take(LONGEST_NAME).collect();
    Err(format!(
        "`{}` is not an endpoint name; use up to {LONGEST_NAME} letters, digits and - _ . @ /",
        shown.escape_debug()
    ))
}

#[cfg(test)]
mod tests {
    use super::check_name;

    #[test]
    fn names_fit_into_addresses_logs_and_metrics() {
        for good in ["pierdesk", "ferries/pierdesk@2", "a-b_c.d"] {
            assert!(check_name(good).is_ok(), "{good}");
        }
        for wrong in [
            "",
            "a b",
            "a\u{1b}[2J",
            "a\nb",
            "../a",
            "a//b",
            "/",
            "é",
            &"x".repeat(101),
        ] {
            assert!(check_name(wrong).is_err(), "{wrong}");
        }
    }
}
