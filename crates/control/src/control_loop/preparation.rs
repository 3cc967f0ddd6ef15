//! Preparing a spec: its files are opened, builds are made, and replicas are sized for each device that it names.

use super::terms::SpecText;
use super::turns::Turns;
use crate::builds::{BuildRequest, Builds, Ready, Search};
use crate::deployments::answer_settings::AnswerSettings;
use crate::deployments::fingerprint::{ReleaseFingerprint, weights_of};
use crate::deployments::request::DeployRequest;
use crate::placement::loader::Loader;
use crate::placement::room::RoomNow;
use serde_json::{Value, json};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_fleet::Spec;
use vastrelay_fleet::cores::CoreRequest;
use vastrelay_fleet::decider::{About, Failure, Prepared, Taken};
use vastrelay_serving::{LoadError, Model, Precision, ReplicaSettings, Sizing};
use vastrelay_weights::{Build, ModelFiles};

/// How long a conversion waits for memory that is about to be given back.
const LONGEST_WAIT_FOR_ROOM: Duration = Duration::from_secs(5);
/// Time between two looks at it.
const LOOK: Duration = Duration::from_millis(20);

/// The files of a spec, opened once.
pub struct Opened {
    /// The model's files.
    pub files: ModelFiles,
    /// Its text side.
    pub model: Arc<Model>,
    /// How calls are answered.
    pub answer_settings: Arc<AnswerSettings>,
    /// The facts that tell the endpoint from others.
    pub fingerprint: ReleaseFingerprint,
}

/// A device on which a prepared spec may run, and how.
pub struct PlacementOption {
    /// The size of a replica there.
    pub sizing: Sizing,
    /// The machine's part of what makes its release.
    pub machine: Value,
    /// The build that is read instead of the model's own files, as long as the option is open.
    build: Mutex<Option<Ready>>,
}

/// A spec that is prepared.
pub struct Preparation {
    pub request: DeployRequest,
    pub opened: Opened,
    /// The devices that it may run on, the first choice first.
    pub options: Vec<PlacementOption>,
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
    /// The endpoint's request for them.
    pub request: BuildRequest<'a>,
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
    /// Returns the option of a replica that has its place.
    pub fn option(&self, taken: &Taken) -> Option<&PlacementOption> {
        self.options
            .iter()
            .find(|option| option.sizing.settings().device.name() == taken.device)
    }

    /// Lets go of the builds of all options but that of a replica that has its place; returns the digest of the build that it reads.
    pub fn settle(&self, taken: &Taken) -> Option<String> {
        let chosen = self.option(taken)?;
        let held = |option: &PlacementOption| option.build.lock().unwrap_or_else(PoisonError::into_inner).take();
        let build = held(chosen);
        self.options.iter().for_each(|option| drop(held(option)));
        let digest = build.as_ref().map(|build| build.digest.clone());
        *chosen.build.lock().unwrap_or_else(PoisonError::into_inner) = build;
        digest
    }

    /// Returns it as the decider needs to know it.
    pub fn summary(&self) -> Prepared<Sizing> {
        let ReleaseFingerprint {
            content,
            weights,
            settings,
            ..
        } = &self.opened.fingerprint;
        Prepared {
            needs: self.options.iter().map(|option| option.sizing.clone()).collect(),
            identity: self.identity(),
            machine: format!("{content} {weights} {settings:?}"),
        }
    }

    /// Returns what tells its release from others, as JSON.
    fn identity(&self) -> String {
        let mut machine = self
            .options
            .first()
            .map(|option| option.machine.clone())
            .unwrap_or_default();
        if self.options.len() > 1 {
            let devices = self.options.iter().map(|option| option.sizing.settings().device.name());
            machine["devices"] = devices.collect::<Vec<_>>().into();
        }
        self.opened.fingerprint.release_on(&machine)
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
    ) -> Result<(DeployRequest, Opened, Instant), Failure> {
        let request = spec.request(name).map_err(|error| Failure {
            why: format!("it was kept with a spec that this version does not read: {error}"),
            about: About::Other,
        })?;
        let begun = Instant::now();
        let _turn = opening.enter();
        let opened = self.open(&request).map_err(|error| error.failure())?;
        Ok((request, opened, begun))
    }

    /// Prepares a spec that is open.
    ///
    /// # Errors
    /// When it cannot be run, or what has to be converted cannot be.
    pub fn prepare(
        &self,
        (request, opened, begun): (DeployRequest, Opened, Instant),
        making: Making<'_>,
    ) -> Result<Preparation, Failure> {
        let options = self.find_options(&request, &opened, Make::Now(making));
        let options = options.map_err(|error| error.failure())?;
        let took = |option: &PlacementOption| {
            option
                .build
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .as_ref()?
                .took
        };
        let built = options.iter().filter_map(took).max();
        Ok(Preparation {
            opened,
            options,
            wanted: begun + built.unwrap_or_default(),
            built,
            request,
        })
    }

    /// Opens the files that a request names.
    ///
    /// # Errors
    /// When it cannot be.
    pub fn open(&self, request: &DeployRequest) -> Result<Opened, LoadError> {
        let path = self.named_file(request, "model", request.model())?;
        let files = ModelFiles::open(&path)?;
        let model = self.models.open(&files)?;
        let Spec { answering, upkeep, .. } = &request.spec;
        let template = answering.template.as_ref().map(|path| request.beside.join(path));
        let template = template
            .map(|path| self.named_file(request, "template", path))
            .transpose()?;
        let answer_settings = AnswerSettings::read(answering, template.as_deref(), &model)?;
        let fingerprint = ReleaseFingerprint {
            content: model.content.clone(),
            weights: weights_of(&path),
            settings: request.spec.settings.clone().or(&self.defaults),
            answering: answering.clone(),
            template: answer_settings.own_template().map(str::to_owned),
            upkeep: *upkeep,
        };
        Ok(Opened {
            files,
            model,
            fingerprint,
            answer_settings: Arc::new(answer_settings),
        })
    }

    /// Returns the options of a request, without those on devices that are too small.
    ///
    /// # Errors
    /// When none is large enough, a setting cannot be, or what has to be converted cannot be.
    pub fn find_options(
        &self,
        request: &DeployRequest,
        opened: &Opened,
        make: Make<'_>,
    ) -> Result<Vec<PlacementOption>, LoadError> {
        let (mut options, mut refused) = (Vec::new(), None);
        for settings in self.options(&opened.fingerprint.settings, request)? {
            match self.find_option(request, opened, settings, make, &options) {
                Ok(Some(option)) => options.push(option),
                Ok(None) => break,
                Err(error) if error.is_for_want_of_room() => refused = refused.or(Some(error)),
                Err(error) => return Err(error),
            }
        }
        match refused {
            Some(refused) if options.is_empty() => Err(refused),
            _ => Ok(options),
        }
    }

    /// Returns one option; nothing where it would need a conversion and an earlier one has room.
    fn find_option(
        &self,
        request: &DeployRequest,
        opened: &Opened,
        settings: ReplicaSettings,
        make: Make<'_>,
        before: &[PlacementOption],
    ) -> Result<Option<PlacementOption>, LoadError> {
        let as_it_is = |settings: ReplicaSettings| -> Result<PlacementOption, LoadError> {
            let sizing = Sizing::new(&opened.model, &opened.files, &settings, None)?;
            Ok(option(opened, sizing, &settings, None))
        };
        let builds = self.builds.as_ref();
        let builds = builds.filter(|_| !settings.device.is_simulated() && !Build::is_one(opened.files.path()));
        let Some(builds) = builds else {
            return as_it_is(settings).map(Some);
        };
        let start =
            |absent, making: Making<'_>| builds.start(request, &opened.files, settings.weights, absent, making.request);
        let found = builds.find(&request.name, &opened.files, settings.weights)?;
        let ready = match (found, make) {
            (Search::There(ready), _) => ready,
            (Search::Absent(_), Make::Later) => return as_it_is(settings).map(Some),
            (Search::Absent(absent), Make::Now(making)) => {
                let has_room = |option: &PlacementOption| would_fit(request, &option.sizing, making).is_ok();
                if before.iter().any(has_room) {
                    return Ok(None);
                }
                // Nothing is converted for which there is no room.
                wait_for_room(request, &as_it_is(settings.clone())?.sizing, making)?;
                start(absent, making)?
            }
        };
        match (sizing_of_build(builds, opened, &ready, &settings), make) {
            // The build is damaged, so a new one is made.
            (Err(LoadError::Weights(_)), Make::Now(making)) if ready.took.is_none() => {
                let again = start(builds.discard(ready), making)?;
                let sizing = sizing_of_build(builds, opened, &again, &settings)?;
                Ok(Some(option(opened, sizing, &settings, Some(again))))
            }
            (sizing, _) => Ok(Some(option(opened, sizing?, &settings, Some(ready)))),
        }
    }
}

/// Returns an option with the machine's part of what makes a release.
fn option(opened: &Opened, sizing: Sizing, settings: &ReplicaSettings, build: Option<Ready>) -> PlacementOption {
    PlacementOption {
        machine: machine_of(&opened.model, &sizing, settings, &opened.fingerprint.weights),
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
fn would_fit(request: &DeployRequest, sizing: &Sizing, making: Making<'_>) -> Result<(), LoadError> {
    let beside = (making.room)().ledgers.without(&request.name);
    let taken = beside.would_take(&request.name, std::slice::from_ref(sizing));
    taken.map(drop).map_err(|failure| LoadError::Full(failure.why))
}

/// As [`would_fit`], and waits for a while for what others give back.
fn wait_for_room(request: &DeployRequest, sizing: &Sizing, making: Making<'_>) -> Result<(), LoadError> {
    let until = Instant::now() + LONGEST_WAIT_FOR_ROOM;
    loop {
        match would_fit(request, sizing, making) {
            Err(_) if Instant::now() < until && (making.room)().frees_soon => std::thread::sleep(LOOK),
            found => return found,
        }
    }
}

/// Returns the machine's part of what makes a release, as JSON: another one has other settings.
pub fn machine_of(model: &Model, sizing: &Sizing, option: &ReplicaSettings, weights: &Value) -> Value {
    let limits = sizing.limits();
    // The number of free cores varies, and is no part of a release's identity.
    let cores = match option.cores {
        CoreRequest::Named(cores) => Some(cores.cores()),
        CoreRequest::Free { .. } => None,
    };
    json!({
        "model": model.content,
        "weights": weights,
        "precision": sizing.precisions(),
        "device": option.device.name(),
        "cores": cores,
        "split": option.split,
        "width": limits.width,
        "step_budget": limits.step_budget,
        "context": limits.context,
        "queue_depth": limits.queue_depth,
        "queue_wait_ms": limits.queue_wait.map(|wait| wait.as_millis() as u64),
        "prefill_chunk": limits.prefill_chunk,
        "memory_share": option.memory_share,
        "pages": option.pages,
    })
}
