//! From weights to something that answers.

mod simulated;

use crate::device::{Device, HeldMemory};
use crate::error::LoadError;
use crate::generate::Generate;
use crate::model::Model;
use crate::origin::{Origin, Shape};
use crate::touch::touch;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use vastrelay_engine::cpu::CpuSettings;
use vastrelay_engine::{Engine, Executor, Limits, PoolLimits};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_planner::{MemoryPlan, PoolPlan, Wish};
use vastrelay_weights::{ModelDescription, Precision, Precisions};

/// Maximum sequences in a batch.
const MOST_WIDTH: usize = 4_096;
/// Most tokens in one step.
const MOST_STEP: usize = 1 << 20;

/// How a model is to be run.
#[derive(Clone, Debug)]
pub struct ReplicaSettings {
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Most tokens of one sequence; the model's own when absent.
    pub context: Option<usize>,
    /// Most sequences that wait.
    pub queue_depth: usize,
    /// Longest that one waits for its first place in the batch; any time when absent.
    pub queue_wait: Option<Duration>,
    /// Most prompt tokens of one sequence in one step.
    pub prefill_chunk: Option<usize>,
    /// Instructions of its kernels.
    pub isa: Isa,
    /// Cores of its own; simulated devices need none.
    pub cores: usize,
    /// Shards that it is divided into, each with its own part of the weights, KV memory and cores, or its own device.
    pub split: usize,
    /// Fraction of the device's memory it may take.
    pub memory_share: f64,
    /// KV pages; as many as fit and are of use when absent.
    pub pages: Option<usize>,
    /// The device, shared with other endpoints.
    pub device: Device,
    /// Weight precision to run in.
    pub weights: Precision,
    /// KV cache precision; the build's own, or bf16, when absent.
    pub kv: Option<KvPrecision>,
}

impl ReplicaSettings {
    /// Returns what memory is planned for where so much of a device is free.
    fn wish(&self, free: usize, context: usize) -> Wish {
        let device = self.device.total();
        let share = (device as f64 * self.memory_share) as usize;
        Wish {
            device,
            budget: share.min(free),
            width: self.width,
            context,
            pages: self.pages,
        }
    }

    /// Returns what an engine may spend with a plan's memory.
    fn limits(&self, memory: &MemoryPlan) -> Limits {
        Limits {
            width: self.width,
            step_budget: self.step_budget,
            context: memory.context,
            queue_depth: self.queue_depth,
            queue_wait: self.queue_wait,
            pools: memory.pools.iter().map(limits_of).collect(),
            prefill_chunk: self.prefill_chunk,
        }
    }
}

/// A place where one release of an endpoint runs.
pub struct Replica {
    /// Its number among those of its endpoint, from 1 on.
    pub number: u32,
    /// The number of its life: what it counts begins at zero in each.
    pub incarnation: u64,
    /// Where its model is.
    pub path: PathBuf,
    /// The device that it runs on.
    pub device: Device,
    /// What runs it.
    pub generate: Arc<dyn Generate>,
    /// The arithmetic of its memory.
    pub memory: MemoryPlan,
    /// Instructions in use.
    pub instructions: &'static str,
    /// Cores of its own.
    pub cores: usize,
    /// Shards that it is divided into.
    pub split: usize,
    /// What it runs in.
    pub precisions: Precisions,
    /// Its part of the device's memory.
    pub held: HeldMemory,
}

impl Replica {
    /// Loads the weights of a path and starts their engine, for an endpoint. It is the endpoint's first replica in its first life unless
    /// somebody says otherwise.
    ///
    /// # Errors
    /// When the weights cannot be read, run or fitted, or a setting cannot be; the text says which and what would work.
    pub fn load(endpoint: &str, model: &Model, path: &Path, settings: &ReplicaSettings) -> Result<Replica, LoadError> {
        let description = &model.description;
        let context = check(settings, description)?;
        if let Some(profile) = settings.device.profile() {
            return simulated::load(endpoint, model, path, settings, profile, context);
        }
        let origin = Origin::open(path, description)?;
        let weights = origin.precision(settings.weights);
        if matches!(origin, Origin::Build(_)) && settings.weights != Precision::AsStored {
            return Err(LoadError::Setting {
                key: "precision.weights",
                text: format!(
                    "{} is a build of {weights}; another precision is built from the checkpoint",
                    path.display(),
                ),
            });
        }
        let kv = settings.kv.unwrap_or(origin.usual_kv());
        let shape = Shape {
            weights: settings.weights,
            kv,
            split: settings.split,
            cores: settings.cores,
            step_budget: settings.step_budget,
            context,
        };
        let sizes = origin.sizes(description, shape);
        let device = &settings.device;
        let (held, memory) = device.hold(endpoint, 1, |room| {
            let wish = settings.wish(room.free, context);
            let plan = MemoryPlan::new(&sizes, wish).map_err(|source| LoadError::Memory {
                folder: path.to_owned(),
                source,
                holders: room.holders,
            })?;
            if plan.total() > room.available {
                return Err(LoadError::Available {
                    folder: path.to_owned(),
                    needed: plan.total(),
                    available: room.available,
                });
            }
            Ok((plan.total(), plan))
        })?;
        let isa = settings.isa;
        let cpu = CpuSettings {
            isa,
            cores: settings.cores,
            context,
            step_tokens: settings.step_budget,
            split: settings.split,
            pages: memory.pools.iter().map(|pool| pool.pages).collect(),
            weights: settings.weights,
            kv,
        };
        let executor = origin.load(description, cpu)?;
        let memory = memory.with_weights(executor.memory().weights);
        held.resident()
            .store(memory.total() - memory.kv_pool(), Ordering::Relaxed);
        touch(executor.untouched(), held.resident().clone()).map_err(LoadError::Thread)?;
        let limits = settings.limits(&memory);
        let build = build_identity(path, isa, Precisions { weights, kv });
        let engine = Engine::start(Box::new(executor), model.tokenizer.pieces().clone(), limits, build);
        Ok(Replica {
            number: 1,
            incarnation: 1,
            path: path.to_owned(),
            device: device.clone(),
            generate: Arc::new(engine),
            memory,
            instructions: isa.name(),
            cores: settings.cores,
            split: settings.split,
            precisions: Precisions { weights, kv },
            held,
        })
    }
}

impl Replica {
    /// Returns how many of the bytes that it has reserved lie in memory by now.
    pub fn resident(&self) -> usize {
        self.held.resident().load(Ordering::Relaxed)
    }
}

/// Returns what tells apart the keys and values of different weights, kernels and precisions.
fn build_identity(path: &Path, isa: Isa, precisions: Precisions) -> String {
    let Precisions { weights, kv } = precisions;
    let group = weights.group().unwrap_or(0);
    format!(
        "{} {} {} {group} {}",
        path.display(),
        isa.name(),
        weights.word(),
        kv.name()
    )
}

fn limits_of(pool: &PoolPlan) -> PoolLimits {
    PoolLimits {
        pages: pool.pages,
        window: pool.sizes.sight.window,
    }
}

/// Checks the settings against each other and the model; returns the context to serve.
fn check(settings: &ReplicaSettings, model: &ModelDescription) -> Result<usize, LoadError> {
    let context = settings.context.unwrap_or(model.context);
    let refuse = |key, text: String| Err(LoadError::Setting { key, text });
    if settings.width == 0 || settings.width > MOST_WIDTH {
        return refuse(
            "batch.width",
            format!("a width of {} does not work; 1 to {MOST_WIDTH} does", settings.width),
        );
    }
    if settings.step_budget > MOST_STEP {
        return refuse(
            "batch.step_budget",
            format!(
                "a step budget of {} does not work; up to {MOST_STEP} does",
                settings.step_budget
            ),
        );
    }
    if settings.step_budget < settings.width {
        let ReplicaSettings { step_budget, width, .. } = settings;
        return refuse(
            "batch.step_budget",
            format!("a step budget of {step_budget} is less than the width of {width}; use {width} or more"),
        );
    }
    if settings.prefill_chunk == Some(0) {
        return refuse(
            "batch.prefill_chunk",
            "a prefill chunk of 0 tokens does not work; use 1 or more".into(),
        );
    }
    if context == 0 || context > model.context {
        return refuse(
            "batch.context",
            format!(
                "a context of {context} tokens does not work; this model supports 1 to {}",
                model.context
            ),
        );
    }
    if !(settings.memory_share > 0.0 && settings.memory_share <= 1.0) {
        return refuse(
            "memory.share",
            format!(
                "a memory share of {} does not work; use more than 0 and at most 1",
                settings.memory_share
            ),
        );
    }
    model.check_split(settings.split).map_err(|error| LoadError::Setting {
        key: "device.split",
        text: error.to_string(),
    })?;
    if settings.device.is_simulated() {
        return Ok(context);
    }
    if settings.cores == 0 {
        return refuse("device.cores", "0 cores do not work; use 1 or more".into());
    }
    if settings.cores < settings.split {
        let ReplicaSettings { cores, split, .. } = settings;
        return refuse(
            "device.cores",
            format!("a split of {split} needs {split} cores, one for each shard, and has {cores}"),
        );
    }
    Ok(context)
}
