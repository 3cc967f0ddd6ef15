//! Finding a place for what is to be served: on which device, and read from which files.

use crate::builds::{Builds, Ready, Search};
use crate::deploy_error::DeployError;
use crate::endpoints::Endpoints;
use crate::loader::Loader;
use crate::made_of::{MadeOf, weights_of};
use crate::manner::Manner;
use crate::order::Order;
use crate::retire::wait_for_memory;
use serde_json::{Value, json};
use std::sync::Arc;
use vastrelay_fleet::Spec;
use vastrelay_fleet::cores::CoreWish;
use vastrelay_serving::{LoadError, Model, Plan, Precision, ReplicaSettings};
use vastrelay_weights::{Build, ModelFiles};

/// What an order names, opened once.
pub(crate) struct Opened {
    pub files: ModelFiles,
    pub model: Arc<Model>,
    pub manner: Arc<Manner>,
    pub made_of: MadeOf,
}

/// Where an order is served from, and where.
pub(crate) struct Placed {
    pub plan: Plan,
    pub way: ReplicaSettings,
    /// The build that is read instead of the model's own files.
    pub build: Option<Ready>,
}

/// Whether a build that is not there yet is made now.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Make {
    /// It is, and the endpoint is served from it.
    Now,
    /// It is not: what has still to be converted takes as much as what was.
    Later,
}

impl Loader {
    /// Opens what an order names.
    pub(crate) fn open(&self, order: &Order) -> Result<Opened, DeployError> {
        let failed = |source| DeployError::load(&order.name, source);
        let path = self.named_file(order, "model", order.model()).map_err(failed)?;
        let files = ModelFiles::open(&path).map_err(|error| failed(error.into()))?;
        let model = self.models.open(&files).map_err(failed)?;
        let Spec { answering, upkeep, .. } = &order.spec;
        let template = answering.template.as_ref().map(|path| order.beside.join(path));
        let template = template
            .map(|path| self.named_file(order, "template", path))
            .transpose();
        let manner = Manner::read(answering, template.map_err(failed)?.as_deref(), &model).map_err(failed)?;
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

    /// As [`Loader::place`]; where there is no room, it waits for a while for what is being given back.
    ///
    /// # Errors
    /// As there.
    pub(crate) fn place_in_time(
        &self,
        endpoints: &Endpoints,
        order: &Order,
        opened: &Opened,
        make: Make,
    ) -> Result<Placed, DeployError> {
        // Looked at before, so that what is given back meanwhile is seen.
        let leaving = endpoints.leaving.now();
        match self.place(order, opened, make) {
            Err(error) if error.is_for_want_of_room() && !leaving.is_empty() => {
                wait_for_memory(&leaving);
                self.place(order, opened, make)
            }
            placed => placed,
        }
    }

    /// Finds a place for what an order names, on the first of its devices with room, and holds it there.
    ///
    /// # Errors
    /// When none has room, a setting cannot be, or what has to be converted cannot be.
    fn place(&self, order: &Order, opened: &Opened, make: Make) -> Result<Placed, DeployError> {
        let failed = |source| DeployError::load(&order.name, source);
        let ways = self.ways(&opened.made_of.settings, order).map_err(failed)?;
        let mut full = Vec::new();
        for way in ways {
            match self.place_on(order, opened, self.with_cores_of_before(order, way), make) {
                Err(error) if error.is_for_want_of_room() => full.push(error),
                placed => return placed.map_err(failed),
            }
        }
        Err(failed(match full.len() {
            1 => full.remove(0),
            _ => LoadError::NoRoom(full),
        }))
    }

    /// Returns a way with as many threads as a worker has that an earlier service has left, so that it can go on.
    fn with_cores_of_before(&self, order: &Order, way: ReplicaSettings) -> ReplicaSettings {
        let left = self
            .workers
            .as_ref()
            .and_then(|workers| workers.threads_left(&order.name));
        match (way.cores, left) {
            (CoreWish::Free { least, most }, Some(left)) if (least..=most).contains(&left) => ReplicaSettings {
                cores: CoreWish::Free {
                    least: left,
                    most: left,
                },
                ..way
            },
            _ => way,
        }
    }

    fn place_on(&self, order: &Order, opened: &Opened, way: ReplicaSettings, make: Make) -> Result<Placed, LoadError> {
        let builds = self.builds.as_ref();
        let builds = builds.filter(|_| !way.device.is_simulated() && !Build::is_one(opened.files.path()));
        let Some(builds) = builds else {
            return self.place_as_it_is(order, opened, way);
        };
        let begin = |absent| builds.begin(order, &opened.files, way.weights, absent);
        let ready = match builds.find(&opened.files, way.weights)? {
            Search::There(ready) => ready,
            Search::Absent(absent) => {
                // Nothing is converted for which there is no room.
                let placed = self.place_as_it_is(order, opened, way.clone())?;
                if make == Make::Later {
                    return Ok(placed);
                }
                drop(placed);
                begin(absent)?
            }
        };
        let place = |ready: &Ready| self.place_build(builds, order, opened, ready, &way);
        let (plan, ready) = match place(&ready) {
            // What was found is not what was written: it is made anew.
            Err(LoadError::Weights(_)) if ready.took.is_none() && make == Make::Now => {
                let again = begin(builds.discard(ready))?;
                (place(&again)?, again)
            }
            plan => (plan?, ready),
        };
        Ok(Placed {
            plan,
            way,
            build: Some(ready),
        })
    }

    /// Finds a place for a model whose own files are read.
    fn place_as_it_is(&self, order: &Order, opened: &Opened, way: ReplicaSettings) -> Result<Placed, LoadError> {
        Ok(Placed {
            plan: Plan::new(&order.name, &opened.model, &opened.files, &way, None)?,
            way,
            build: None,
        })
    }

    /// Finds a place for a build, which has its own precision; its text side is that of the model.
    fn place_build(
        &self,
        builds: &Builds,
        order: &Order,
        opened: &Opened,
        ready: &Ready,
        way: &ReplicaSettings,
    ) -> Result<Plan, LoadError> {
        let files = ModelFiles::open(&ready.folder)?;
        let as_built = ReplicaSettings {
            weights: Precision::AsStored,
            ..way.clone()
        };
        let checked = builds.checked(ready)?;
        Plan::new(&order.name, &opened.model, &files, &as_built, checked.as_ref())
    }
}

/// Returns the machine's part of what makes a release, as JSON: another one has other settings.
pub(crate) fn machine_of(model: &Model, plan: &Plan, way: &ReplicaSettings, weights: &Value) -> Value {
    let limits = &plan.assignment.limits;
    // What is free is another number each time, and makes no other release.
    let cores = match way.cores {
        CoreWish::Named(cores) => Some(cores.cores()),
        CoreWish::Free { .. } => None,
    };
    json!({
        "model": model.content,
        "weights": weights,
        "precision": plan.precisions,
        "device": plan.device.name(),
        "cores": cores,
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
