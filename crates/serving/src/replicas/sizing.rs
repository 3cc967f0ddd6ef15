//! The size of a replica that has no place yet.

use crate::devices::device::{Holders, ReplicaCores};
use crate::error::LoadError;
use crate::models::model::Model;
use crate::models::origin::{Origin, Shape};
use crate::replicas::assignment::{Assignment, Backend};
use crate::replicas::replica::{Plan, Replica, ReplicaSettings, check, limits_of};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_engine::{Limits, MemoryReport};
use vastrelay_fleet::cores::{CoreRequest, NoCores};
use vastrelay_fleet::decider::{Failure, Ledgers, Need, Take, Taken};
use vastrelay_fleet::ledger::Room;
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::{DeviceProfile, DoesNotFit, MemoryPlan, MemoryRequest, Question, Sizes, WhyNot};
use vastrelay_weights::build::Checked;
use vastrelay_weights::precision::KvPrecision;
use vastrelay_weights::split::either;
use vastrelay_weights::{Kind, ModelDescription, ModelFiles, Precision, Precisions, StoredAs};

/// A replica that has its settings and no place. Clones share the facts.
#[derive(Clone)]
pub struct Sizing(Arc<Facts>);

struct Facts {
    path: PathBuf,
    settings: ReplicaSettings,
    /// Most tokens of one sequence.
    context: usize,
    description: ModelDescription,
    /// The precisions of weights and KV cache.
    precisions: Precisions,
    /// The file that it reads as it lies, as may others.
    reads: Option<String>,
    /// The source of its size.
    source: Source,
    /// The identity of its workers.
    worker: String,
}

/// The lower precisions of weights that a refusal suggests, the nearest first.
const LOWER: [&str; 2] = ["int8", "int4"];
/// Shortest context that a refusal suggests.
const LEAST_CONTEXT: usize = 128;

/// Settings that a replica's size is tried with.
#[derive(Clone, Copy)]
struct Tried {
    precisions: Precisions,
    width: usize,
    context: usize,
}

/// The source of a replica's size.
enum Source {
    /// Weights of so many bytes on this machine's processor, and that they were found to be what was written.
    Cpu {
        weights: usize,
        /// The weights in lower precisions, where they can be converted.
        lower: Vec<(Precision, usize)>,
        checked: Option<Checked>,
    },
    /// A checkpoint's kinds of tensors, on simulated devices.
    Simulated {
        profile: Box<DeviceProfile>,
        stored: StoredAs,
    },
}

impl Sizing {
    /// Reads the facts of a model's weights that its size depends on. A build is not read whole that is as it was when it was `checked`.
    ///
    /// # Errors
    /// When the weights cannot be read, or a setting cannot be; the text says which and what would work.
    pub fn new(
        model: &Model,
        files: &ModelFiles,
        settings: &ReplicaSettings,
        checked: Option<&Checked>,
    ) -> Result<Sizing, LoadError> {
        let description = &model.description;
        let context = check(settings, description)?;
        let facts = match settings.device.profile() {
            Some(profile) => simulated(files, settings, profile)?,
            None => on_cpu(description, files, settings, checked)?,
        };
        let (precisions, reads, source) = facts;
        let mut facts = Facts {
            path: files.path().to_owned(),
            settings: settings.clone(),
            context,
            description: description.clone(),
            precisions,
            reads,
            source,
            worker: String::new(),
        };
        let sizing = |facts: &Facts| {
            facts.assignment(
                facts.settings.limits(facts.context, Vec::new()),
                0,
                &[],
                MemoryReport::default(),
            )
        };
        facts.worker = sizing(&facts).worker();
        let sizing = Sizing(Arc::new(facts));
        if let Source::Simulated { profile, .. } = &sizing.0.source
            && settings.split > profile.count
        {
            return Err(sizing.refused(profile, WhyNot::Devices { count: profile.count }));
        }
        Ok(sizing)
    }

    /// Returns the precisions that it will run in.
    pub fn precisions(&self) -> Precisions {
        self.0.precisions
    }

    /// Returns its settings.
    pub fn settings(&self) -> &ReplicaSettings {
        &self.0.settings
    }

    /// Returns what it may spend, but for its pools.
    pub fn limits(&self) -> Limits {
        self.0.settings.limits(self.0.context, Vec::new())
    }

    /// Returns the plan of its memory where so much room is, and it has so many threads.
    ///
    /// # Errors
    /// When the room does not do.
    pub fn memory(&self, room: &Room, threads: usize) -> Result<MemoryPlan, LoadError> {
        let free = room.free.saturating_add(room.there);
        let refused = |source: DoesNotFit| match &self.0.source {
            Source::Simulated { profile, .. } if room.holders.is_empty() => self.refused(profile, source.into()),
            _ => LoadError::Memory {
                folder: self.0.path.clone(),
                would: self.would_do(&source, free, threads),
                source,
                holders: Holders(room.holders.clone()),
            },
        };
        self.memory_plan(free, threads).map_err(refused)
    }

    /// Returns the replica in the place that it has taken.
    ///
    /// # Errors
    /// When other programs use the memory of its place, unless its worker `is_there` already.
    pub fn place(&self, taken: Taken, is_there: bool) -> Result<Plan, LoadError> {
        let Facts { path, settings, .. } = &*self.0;
        let all = taken.take.own + taken.take.read;
        let memory_plan = |free| {
            self.memory_plan(free, taken.threads)
                .map_err(|source| LoadError::Memory {
                    folder: path.clone(),
                    source,
                    holders: Holders(taken.holders.clone()),
                    would: String::new(),
                })
        };
        let memory = match memory_plan(taken.room) {
            Ok(memory) if memory.total() == all => memory,
            // It has as much as its worker found at its time.
            _ => memory_plan(all)?,
        };
        let (device, needed) = (&settings.device, memory.total());
        let reserved = match is_there {
            true => device.reserve_anyway(needed),
            false => {
                let there = taken.there.min(taken.take.read);
                device
                    .reserve(needed, there)
                    .map_err(|available| LoadError::Available {
                        folder: path.clone(),
                        needed: needed - there,
                        available,
                        holders: Holders(taken.holders.clone()),
                    })?
            }
        };
        let limits = settings.limits(self.0.context, memory.pools.iter().map(limits_of).collect());
        let assignment = self.0.assignment(limits, taken.threads, &taken.places, report(&memory));
        Ok(Plan {
            device: device.clone(),
            cores: (!device.is_simulated()).then(|| ReplicaCores::new(taken.threads)),
            precisions: self.0.precisions,
            instructions: match device.is_simulated() {
                true => "simulated",
                false => settings.isa.name(),
            },
            taken,
            reserved,
            assignment,
            memory,
        })
    }

    /// Returns the replica on a device on which there is nothing else.
    ///
    /// # Errors
    /// When it does not fit there, or other programs use the memory.
    pub fn plan_on_empty_device(&self) -> Result<Plan, LoadError> {
        let device = &self.0.settings.device;
        let mut ledgers = Ledgers::default();
        ledgers.add(device.name(), device.count(), device.total(), device.core_ledger());
        let taken = ledgers.would_take("", std::slice::from_ref(self));
        self.place(taken.map_err(|failure| LoadError::Refused(failure.why))?, false)
    }

    fn memory_plan(&self, free: usize, threads: usize) -> Result<MemoryPlan, DoesNotFit> {
        self.memory_plan_with(self.tried(), free, threads)
    }

    /// Returns the settings that its size depends on.
    fn tried(&self) -> Tried {
        Tried {
            precisions: self.0.precisions,
            width: self.0.settings.width,
            context: self.0.context,
        }
    }

    /// Plans with other settings than its own.
    fn memory_plan_with(&self, tried: Tried, free: usize, threads: usize) -> Result<MemoryPlan, DoesNotFit> {
        let memory_request = MemoryRequest {
            width: tried.width,
            typical: self.0.settings.typical(tried.context).tokens().min(tried.context),
            ..self.0.settings.memory_request(free, tried.context)
        };
        MemoryPlan::new(&self.sizes(tried, threads), memory_request)
    }

    /// Returns the single changes of a setting that would suffice where one sequence does not fit, as a clause.
    fn would_do(&self, refused: &DoesNotFit, free: usize, threads: usize) -> String {
        let DoesNotFit::Sequence {
            fixed,
            sequence,
            device,
            ..
        } = refused
        else {
            return String::new();
        };
        let needed = fixed + sequence;
        let share = (needed <= free.min(*device)).then(|| (needed as f64 / *device as f64 * 100.0).ceil() / 100.0);
        let now = self.tried();
        let fits = |tried: &Tried| self.memory_plan_with(*tried, free, threads).is_ok();
        let halves =
            |from: usize| std::iter::successors(Some(from / 2), |half| Some(half / 2)).take_while(|half| *half > 0);
        let contexts = halves(now.context).filter(|context| *context >= LEAST_CONTEXT);
        let context = contexts.map(|context| Tried { context, ..now }).find(fits);
        let width = halves(now.width).map(|width| Tried { width, ..now }).find(fits);
        let with = |precisions| Tried { precisions, ..now };
        let kv = with(Precisions {
            kv: KvPrecision::Int8,
            ..now.precisions
        });
        let lower = match &self.0.source {
            Source::Cpu { lower, .. } => lower.iter().map(|(weights, _)| *weights).collect(),
            Source::Simulated { .. } => LOWER
                .iter()
                .filter_map(|word| Precision::of(word, None).ok())
                .collect::<Vec<_>>(),
        };
        let weights = lower
            .into_iter()
            .map(|weights| {
                with(Precisions {
                    weights,
                    ..now.precisions
                })
            })
            .find(fits);
        let mut changes: Vec<String> = share
            .map(|share| format!("memory.share = {share}"))
            .into_iter()
            .collect();
        changes.extend(context.map(|tried| format!("batch.context = {}", tried.context)));
        changes.extend(width.map(|tried| format!("batch.width = {}", tried.width)));
        changes.extend(Some(kv).filter(fits).map(|_| "precision.kv = \"int8\"".to_owned()));
        changes.extend(weights.map(|tried| format!("precision.weights = \"{}\"", tried.precisions.weights.word())));
        match changes.is_empty() {
            true => "; no single change of context, width or precision would do: give it another device, or stop an endpoint".into(),
            false => format!("; one of these changes would do: {}", changes.join(", ")),
        }
    }

    fn sizes(&self, tried: Tried, threads: usize) -> Sizes {
        let Facts {
            settings,
            description,
            source,
            ..
        } = &*self.0;
        let Tried {
            precisions,
            width,
            context,
        } = tried;
        match source {
            Source::Cpu { weights, lower, .. } => {
                let changed = lower.iter().find(|(precision, _)| *precision == precisions.weights);
                let weights = changed.map_or(*weights, |(_, bytes)| *bytes);
                let shape = Shape {
                    weights: changed.map_or(settings.weights, |(precision, _)| *precision),
                    kv: precisions.kv,
                    split: settings.split,
                    cores: threads,
                    step_budget: settings.step_budget,
                    width,
                    context,
                };
                shape.sizes(description, weights)
            }
            Source::Simulated { profile, stored } => {
                let kind = |tensor: &str| stored.kind(tensor);
                let question = Question {
                    precisions,
                    width,
                    context,
                    ..self.question(&kind)
                };
                question.placement(settings.split).sizes(profile)
            }
        }
    }

    fn question<'a>(&'a self, stored: &'a dyn Fn(&str) -> Kind) -> Question<'a> {
        let Facts {
            settings,
            context,
            description,
            precisions,
            ..
        } = &*self.0;
        Question {
            model: description,
            stored,
            precisions: *precisions,
            width: settings.width,
            step_budget: settings.step_budget,
            context: *context,
            memory_share: settings.memory_share,
            typical: settings.typical(*context),
            concurrency: None,
        }
    }

    fn refused(&self, profile: &DeviceProfile, source: WhyNot) -> LoadError {
        let Facts { path, settings, .. } = &*self.0;
        let would = match &self.0.source {
            Source::Simulated { stored, .. } => {
                let kind = |tensor: &str| stored.kind(tensor);
                would_do(&self.question(&kind), profile)
            }
            Source::Cpu { .. } => String::new(),
        };
        LoadError::Devices {
            folder: path.clone(),
            split: settings.split,
            device: profile.name.clone(),
            source: Box::new(source),
            would,
        }
    }
}

impl Facts {
    fn assignment(&self, limits: Limits, threads: usize, places: &[usize], memory: MemoryReport) -> Assignment {
        let settings = &self.settings;
        let place = match &self.source {
            Source::Cpu { checked, .. } => Backend::Cpu {
                threads,
                isa: settings.isa.name().into(),
                checked: checked.clone(),
            },
            Source::Simulated { profile, .. } => Backend::Simulated {
                profile: profile.clone(),
                memory,
                turns: settings.device.turns(places).into_iter().map(Into::into).collect(),
            },
        };
        Assignment {
            path: self.path.as_os_str().to_owned(),
            precisions: Precisions {
                weights: settings.weights,
                kv: self.precisions.kv,
            },
            limits,
            split: settings.split,
            place,
        }
    }
}

impl Replica {
    /// Loads the weights of a path and starts their engine in this process, on a device on which there is nothing else.
    ///
    /// # Errors
    /// As of [`Sizing::new`] and [`Sizing::plan_on_empty_device`], and when the weights cannot be run.
    pub fn load(model: &Model, path: &Path, settings: &ReplicaSettings) -> Result<Replica, LoadError> {
        let sizing = Sizing::new(model, &ModelFiles::open(path)?, settings, None)?;
        Arc::new(sizing.plan_on_empty_device()?).load_here(model)
    }
}

impl Need for Sizing {
    fn device(&self) -> &str {
        self.0.settings.device.name()
    }

    fn count(&self) -> usize {
        match self.0.settings.device.is_simulated() {
            true => self.0.settings.split,
            false => 1,
        }
    }

    fn reads(&self) -> Option<&str> {
        self.0.reads.as_deref()
    }

    fn cores(&self) -> CoreRequest {
        self.0.settings.cores
    }

    fn worker(&self) -> &str {
        &self.0.worker
    }

    fn take(&self, room: &Room, threads: usize) -> Result<Take, Failure> {
        let memory = self.memory(room, threads).map_err(|error| error.failure())?;
        // Shards have copies of their parts; an unsharded replica maps the build's file, which others share.
        let read = self.0.reads.as_ref().map_or(0, |_| memory.weights);
        let own = memory.total() - read;
        Ok(Take { own, read })
    }

    fn without_cores(&self, refused: NoCores) -> Failure {
        LoadError::Cores(refused).failure()
    }
}

impl std::fmt::Debug for Sizing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Sizing")
            .field("path", &self.0.path)
            .field("device", &self.0.settings.device)
            .finish_non_exhaustive()
    }
}

type Read = (Precisions, Option<String>, Source);

fn on_cpu(
    description: &ModelDescription,
    files: &ModelFiles,
    settings: &ReplicaSettings,
    checked: Option<&Checked>,
) -> Result<Read, LoadError> {
    let origin = Origin::open(files, description, checked)?;
    let weights = origin.precision(settings.weights);
    if matches!(origin, Origin::Build(_)) && settings.weights != Precision::AsStored {
        return Err(LoadError::Setting {
            key: "precision.weights",
            text: format!(
                "{} is a build of {weights}; another precision is built from the checkpoint",
                files.path().display(),
            ),
        });
    }
    let kv = settings.kv.unwrap_or(origin.usual_kv());
    let reads = match &origin {
        Origin::Build(build) if settings.split == 1 => Some(build.facts.checksum.clone()),
        _ => None,
    };
    let bytes_in = |precision| origin.weight_bytes(description, precision, settings.split);
    let lower = match &origin {
        Origin::Checkpoint(_) => LOWER.iter().filter_map(|word| Precision::of(word, None).ok()).collect(),
        Origin::Build(_) => Vec::new(),
    };
    let source = Source::Cpu {
        weights: bytes_in(settings.weights),
        lower: lower
            .into_iter()
            .map(|precision| (precision, bytes_in(precision)))
            .collect(),
        checked: origin.checked().cloned(),
    };
    Ok((Precisions { weights, kv }, reads, source))
}

fn simulated(files: &ModelFiles, settings: &ReplicaSettings, profile: &DeviceProfile) -> Result<Read, LoadError> {
    let precisions = Precisions {
        weights: settings.weights,
        kv: settings.kv.unwrap_or_default(),
    };
    let source = Source::Simulated {
        profile: Box::new(profile.clone()),
        stored: StoredAs::read(files)?,
    };
    Ok((precisions, None, source))
}

/// Returns what would fit devices on which there is nothing else.
fn would_do(question: &Question<'_>, profile: &DeviceProfile) -> String {
    let fits = question.splits(profile, profile.count).into_iter();
    let fits: Vec<usize> = fits.filter(|fit| fit.verdict.is_ok()).map(|fit| fit.split).collect();
    let shipped = DeviceProfile::shipped();
    match (fits.is_empty(), question.cheapest(&of_profiles(&shipped))) {
        (false, _) => format!("a split of {} would fit", either(&fits)),
        (true, Some((other, split))) => format!("{split} × {} would do", other.name()),
        (true, None) => "use lower precisions or a smaller context".into(),
    }
}

fn report(memory: &MemoryPlan) -> MemoryReport {
    MemoryReport {
        weights: memory.weights,
        kv_pool: memory.kv_pool(),
        pools: memory.pools.len(),
        page: memory.page(),
        workspace: memory.workspace,
    }
}
