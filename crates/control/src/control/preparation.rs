//! Preparing a spec: its files are opened, builds are made, and replicas are sized for each device that it names.

use super::terms::SpecText;
use super::turns::Turns;
use crate::builds::{Builds, Ready, Search, Wish};
use crate::loader::Loader;
use crate::made_of::{MadeOf, weights_of};
use crate::manner::Manner;
use crate::order::Order;
use crate::room::RoomNow;
use serde_json::{Value, json};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_fleet::Spec;
use vastrelay_fleet::cores::CoreWish;
use vastrelay_fleet::decider::{About, Failure, Prepared, Taken};
use vastrelay_serving::{LoadError, Model, Precision, ReplicaSettings, Sizing};
use vastrelay_weights::{Build, ModelFiles};

/// How long a conversion waits for memory that is about to be given back.
const ROOM_PATIENCE: Duration = Duration::from_secs(5);
/// Time between two looks at it.
const LOOK: Duration = Duration::from_millis(20);

/// The files of a spec, opened once.
pub struct Opened {
    /// The model's files.
    pub files: ModelFiles,
    /// Its text side.
    pub model: Arc<Model>,
    /// How calls are answered.
    pub manner: Arc<Manner>,
    /// The facts that tell the endpoint from others.
    pub made_of: MadeOf,
}

/// A device on which a prepared spec may run, and how.
pub struct Way {
    /// The size of a replica there.
    pub sizing: Sizing,
    /// The machine's part of what makes its release.
    pub machine: Value,
    /// The build that is read instead of the model's own files, as long as the way is open.
    build: Mutex<Option<Ready>>,
}

/// A spec that is prepared.
pub struct Preparation {
    pub order: Order,
    pub opened: Opened,
    /// The devices that it may run on, the first choice first.
    pub ways: Vec<Way>,
    /// The time of the request, moved forward by the time of a conversion.
    pub wanted: Instant,
    /// How long its conversion took, where there was one.
    pub built: Option<Duration>,
}

/// How builds are made.
#[derive(Clone, Copy)]
pub struct Making<'a> {
    /// Returns what is held now.
    pub room: &'a dyn Fn() -> RoomNow,
    /// The endpoint's wish for them.
    pub wish: Wish<'a>,
}

/// Whether a build that is not there yet is made now.
#[derive(Clone, Copy)]
pub enum Make<'a> {
    /// It is, where there is room for it, and the endpoint is served from it.
    Now(Making<'a>),
    /// It is not: what has still to be converted takes as much as what was.
    Later,
}

impl Preparation {
    /// Returns the way that a replica takes which has its place.
    pub fn way(&self, taken: &Taken) -> Option<&Way> {
        self.ways
            .iter()
            .find(|way| way.sizing.settings().device.name() == taken.device)
    }

    /// Lets go of builds of other ways than the one of a replica that has its place; returns the digest of the build that it reads.
    pub fn settle(&self, taken: &Taken) -> Option<String> {
        let chosen = self.way(taken)?;
        let held = |way: &Way| way.build.lock().unwrap_or_else(PoisonError::into_inner).take();
        let build = held(chosen);
        self.ways.iter().for_each(|way| drop(held(way)));
        let digest = build.as_ref().map(|build| build.digest.clone());
        *chosen.build.lock().unwrap_or_else(PoisonError::into_inner) = build;
        digest
    }

    /// Returns it as the decider needs to know it.
    pub fn summary(&self) -> Prepared<Sizing> {
        let MadeOf {
            content,
            weights,
            settings,
            ..
        } = &self.opened.made_of;
        Prepared {
            needs: self.ways.iter().map(|way| way.sizing.clone()).collect(),
            identity: self.identity(),
            machine: format!("{content} {weights} {settings:?}"),
        }
    }

    /// Returns what tells its release from others, as JSON.
    fn identity(&self) -> String {
        let mut machine = self.ways.first().map(|way| way.machine.clone()).unwrap_or_default();
        if self.ways.len() > 1 {
            let devices = self.ways.iter().map(|way| way.sizing.settings().device.name());
            machine["devices"] = devices.collect::<Vec<_>>().into();
        }
        self.opened.made_of.release_on(&machine)
    }
}

impl Loader {
    /// Opens what a spec names, when it is its turn.
    ///
    /// # Errors
    /// When it cannot be read, or its files cannot be opened or run.
    pub(super) fn open_spec(
        &self,
        name: &str,
        spec: &SpecText,
        opening: &Turns,
    ) -> Result<(Order, Opened, Instant), Failure> {
        let order = spec.order(name).map_err(|error| Failure {
            why: format!("it was kept with a spec that this version does not read: {error}"),
            about: About::Other,
        })?;
        let begun = Instant::now();
        let _turn = opening.enter();
        let opened = self.open(&order).map_err(|error| error.failure())?;
        Ok((order, opened, begun))
    }

    /// Prepares a spec that is open.
    ///
    /// # Errors
    /// When it cannot be run, or what has to be converted cannot be.
    pub fn prepare(
        &self,
        (order, opened, begun): (Order, Opened, Instant),
        making: Making<'_>,
    ) -> Result<Preparation, Failure> {
        let ways = self.find_ways(&order, &opened, Make::Now(making));
        let ways = ways.map_err(|error| error.failure())?;
        let took = |way: &Way| way.build.lock().unwrap_or_else(PoisonError::into_inner).as_ref()?.took;
        let built = ways.iter().filter_map(took).max();
        Ok(Preparation {
            opened,
            ways,
            wanted: begun + built.unwrap_or_default(),
            built,
            order,
        })
    }

    /// Opens what an order names.
    ///
    /// # Errors
    /// When it cannot be.
    pub fn open(&self, order: &Order) -> Result<Opened, LoadError> {
        let path = self.named_file(order, "model", order.model())?;
        let files = ModelFiles::open(&path)?;
        let model = self.models.open(&files)?;
        let Spec { answering, upkeep, .. } = &order.spec;
        let template = answering.template.as_ref().map(|path| order.beside.join(path));
        let template = template
            .map(|path| self.named_file(order, "template", path))
            .transpose()?;
        let manner = Manner::read(answering, template.as_deref(), &model)?;
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

    /// Returns the ways of what an order names, without those on devices that are too small.
    ///
    /// # Errors
    /// When none is large enough, a setting cannot be, or what has to be converted cannot be.
    pub fn find_ways(&self, order: &Order, opened: &Opened, make: Make<'_>) -> Result<Vec<Way>, LoadError> {
        let (mut ways, mut refused) = (Vec::new(), None);
        for settings in self.ways(&opened.made_of.settings, order)? {
            match self.find_way(order, opened, settings, make, &ways) {
                Ok(Some(way)) => ways.push(way),
                Ok(None) => break,
                Err(error) if error.is_for_want_of_room() => refused = refused.or(Some(error)),
                Err(error) => return Err(error),
            }
        }
        match refused {
            Some(refused) if ways.is_empty() => Err(refused),
            _ => Ok(ways),
        }
    }

    /// Returns one way; nothing where it would need a conversion and an earlier one has room.
    fn find_way(
        &self,
        order: &Order,
        opened: &Opened,
        settings: ReplicaSettings,
        make: Make<'_>,
        before: &[Way],
    ) -> Result<Option<Way>, LoadError> {
        let as_it_is = |settings: ReplicaSettings| -> Result<Way, LoadError> {
            let sizing = Sizing::new(&opened.model, &opened.files, &settings, None)?;
            Ok(way(opened, sizing, &settings, None))
        };
        let builds = self.builds.as_ref();
        let builds = builds.filter(|_| !settings.device.is_simulated() && !Build::is_one(opened.files.path()));
        let Some(builds) = builds else {
            return as_it_is(settings).map(Some);
        };
        let begin =
            |absent, making: Making<'_>| builds.begin(order, &opened.files, settings.weights, absent, making.wish);
        let found = builds.find(&order.name, &opened.files, settings.weights)?;
        let ready = match (found, make) {
            (Search::There(ready), _) => ready,
            (Search::Absent(_), Make::Later) => return as_it_is(settings).map(Some),
            (Search::Absent(absent), Make::Now(making)) => {
                let has_room = |way: &Way| would_fit(order, &way.sizing, making).is_ok();
                if before.iter().any(has_room) {
                    return Ok(None);
                }
                // Nothing is converted for which there is no room.
                wait_for_room(order, &as_it_is(settings.clone())?.sizing, making)?;
                begin(absent, making)?
            }
        };
        match (sizing_of_build(builds, opened, &ready, &settings), make) {
            // The build is damaged, so a new one is made.
            (Err(LoadError::Weights(_)), Make::Now(making)) if ready.took.is_none() => {
                let again = begin(builds.discard(ready), making)?;
                let sizing = sizing_of_build(builds, opened, &again, &settings)?;
                Ok(Some(way(opened, sizing, &settings, Some(again))))
            }
            (sizing, _) => Ok(Some(way(opened, sizing?, &settings, Some(ready)))),
        }
    }
}

/// Returns a way with what tells its machine from others.
fn way(opened: &Opened, sizing: Sizing, settings: &ReplicaSettings, build: Option<Ready>) -> Way {
    Way {
        machine: machine_of(&opened.model, &sizing, settings, &opened.made_of.weights),
        sizing,
        build: Mutex::new(build),
    }
}

/// Sizes a build, which has its own precision; its text side is that of the model.
fn sizing_of_build(
    builds: &Builds,
    opened: &Opened,
    ready: &Ready,
    settings: &ReplicaSettings,
) -> Result<Sizing, LoadError> {
    let files = ModelFiles::open(&ready.folder)?;
    let as_built = ReplicaSettings {
        weights: Precision::AsStored,
        ..settings.clone()
    };
    let checked = builds.checked(ready)?;
    Sizing::new(&opened.model, &files, &as_built, checked.as_ref())
}

/// Returns whether a replica would have room beside those of other endpoints; its own endpoint's may make room.
fn would_fit(order: &Order, sizing: &Sizing, making: Making<'_>) -> Result<(), LoadError> {
    let beside = (making.room)().ledgers.without(&order.name);
    let taken = beside.would_take(&order.name, std::slice::from_ref(sizing));
    taken.map(drop).map_err(|failure| LoadError::Full(failure.why))
}

/// As [`would_fit`], and waits for a while for what others give back.
fn wait_for_room(order: &Order, sizing: &Sizing, making: Making<'_>) -> Result<(), LoadError> {
    let until = Instant::now() + ROOM_PATIENCE;
    loop {
        match would_fit(order, sizing, making) {
            Err(_) if Instant::now() < until && (making.room)().frees_soon => std::thread::sleep(LOOK),
            found => return found,
        }
    }
}

/// Returns the machine's part of what makes a release, as JSON: another one has other settings.
pub fn machine_of(model: &Model, sizing: &Sizing, way: &ReplicaSettings, weights: &Value) -> Value {
    let limits = sizing.limits();
    // The number of free cores varies, and is no part of a release's identity.
    let cores = match way.cores {
        CoreWish::Named(cores) => Some(cores.cores()),
        CoreWish::Free { .. } => None,
    };
    json!({
        "model": model.content,
        "weights": weights,
        "precision": sizing.precisions(),
        "device": way.device.name(),
        "cores": cores,
        "split": way.split,
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
