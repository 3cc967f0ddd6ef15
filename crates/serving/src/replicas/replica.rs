//! From weights to something that answers.

use crate::devices::device::{Device, ReplicaCores, Reserved};
use crate::error::LoadError;
use crate::models::model::Model;
use crate::replicas::assignment::Assignment;
use crate::replicas::generate::Generate;
use crate::replicas::touch::touch;
use std::sync::Arc;
use std::time::Duration;
use vastrelay_engine::{Engine, Limits, MemoryReport, PoolLimits};
use vastrelay_fleet::CoreShare;
use vastrelay_fleet::cores::CoreRequest;
use vastrelay_fleet::decider::Taken;
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_kernels::reserved::Untouched;
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_planner::{MemoryPlan, MemoryRequest, PoolPlan, Typical};
use vastrelay_weights::{ModelDescription, ModelFiles, Precision, Precisions};

/// Maximum sequences in a batch.
pub const MOST_WIDTH: usize = 4_096;
/// Most tokens in one step.
pub const MOST_STEP: usize = 1 << 20;

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
    /// Cores; simulated devices need none.
    pub cores: CoreRequest,
    /// Shards that it is divided into, each with its own part of the weights, KV memory and cores, or its own device.
    pub split: usize,
    /// Fraction of the device's memory it may take.
    pub memory_share: f64,
    /// KV pages; two batches of typical sequences when absent, and at least one sequence at full context.
    pub pages: Option<usize>,
    /// A typical sequence; the usual one when absent.
    pub typical: Option<Typical>,
    /// The device, shared with other endpoints.
    pub device: Device,
    /// Weight precision to run in.
    pub weights: Precision,
    /// KV cache precision; the build's own, or bf16, when absent.
    pub kv: Option<KvPrecision>,
}

impl ReplicaSettings {
    /// Returns what memory is planned for where so much of a device is free, or read by it and held already.
    pub(crate) fn memory_request(&self, free: usize, context: usize) -> MemoryRequest {
        let device = self.device.total();
        let share = (device as f64 * self.memory_share) as usize;
        MemoryRequest {
            device,
            budget: share.min(free),
            width: self.width,
            step_budget: self.step_budget,
            context,
            typical: self.typical(context).tokens(),
            pages: self.pages,
        }
    }

    /// Returns the typical sequence of a replica with such a context.
    pub fn typical(&self, context: usize) -> Typical {
        self.typical.unwrap_or(Typical::usual(context))
    }

    /// Returns what an engine may spend with these pools.
    pub(crate) fn limits(&self, context: usize, pools: Vec<PoolLimits>) -> Limits {
        Limits {
            width: self.width,
            step_budget: self.step_budget,
            context,
            queue_depth: self.queue_depth,
            queue_wait: self.queue_wait,
            pools,
            prefill_chunk: self.prefill_chunk,
        }
    }
}

/// A replica that has its place on a device and does not run yet.
pub struct Plan {
    /// The device that it will run on.
    pub device: Device,
    /// The arithmetic of its memory.
    pub memory: MemoryPlan,
    /// Its cores; nothing on simulated devices.
    pub cores: Option<ReplicaCores>,
    /// The memory and cores that it takes.
    pub taken: Taken,
    /// Its memory, as far as the system has given it.
    pub reserved: Arc<Reserved>,
    /// The precisions of weights and KV cache.
    pub precisions: Precisions,
    /// Instructions that it will use.
    pub instructions: &'static str,
    /// What is to be run.
    pub assignment: Assignment,
}

/// A place where one release of an endpoint runs.
pub struct Replica {
    /// Its number among those of its endpoint, from 1 on.
    pub number: u32,
    /// The number of its life: what it counts begins at zero in each.
    pub incarnation: u64,
    /// The number of its process, where it has one of its own.
    pub process: Option<u32>,
    /// How it came to its place.
    pub plan: Arc<Plan>,
    /// The arithmetic of its memory, with the weights as they are.
    pub memory: MemoryPlan,
    /// What runs it.
    pub generate: Arc<dyn Generate>,
}

impl Plan {
    /// Loads the weights and starts their engine in this process.
    ///
    /// # Errors
    /// When the weights cannot be read or run.
    pub fn load_here(self: &Arc<Plan>, model: &Model) -> Result<Replica, LoadError> {
        let files = ModelFiles::open(self.assignment.path())?;
        let (assignment, pieces) = (&self.assignment, model.tokenizer.pieces());
        let loaded = assignment.load(
            &files,
            &model.description,
            pieces,
            &model.defaults.end_ids,
            &|_| {},
            &Spinning::default(),
        )?;
        let taken = loaded.executor.memory();
        let untouched = loaded.untouched.iter().map(Untouched::bytes).sum();
        let (limits, build) = (assignment.limits.clone(), assignment.build());
        let engine = Engine::start(loaded.executor, pieces.clone(), limits, build);
        let replica = self.run_by(Arc::new(engine), taken, untouched);
        let reserved = self.reserved.clone();
        touch(loaded.untouched, move |given| reserved.given(given)).map_err(LoadError::Thread)?;
        Ok(replica)
    }

    /// Returns the replica that runs it, with what it took of its device's memory, and how much of that the system has not given yet. It
    /// is the endpoint's first one in its first life unless somebody says otherwise.
    pub fn run_by(self: &Arc<Plan>, generate: Arc<dyn Generate>, taken: MemoryReport, untouched: usize) -> Replica {
        let memory = self.memory.clone().with_weights(taken.weights);
        self.reserved.lies_in_memory(memory.total().saturating_sub(untouched));
        Replica {
            number: 1,
            incarnation: 1,
            process: None,
            plan: self.clone(),
            memory,
            generate,
        }
    }
}

impl Plan {
    /// Returns how many of the bytes that it holds lie in memory by now.
    pub fn resident(&self) -> usize {
        self.reserved.resident()
    }
}

impl Replica {
    /// Returns how many of the bytes that it has reserved lie in memory by now.
    pub fn resident(&self) -> usize {
        self.plan.resident()
    }
}

pub(crate) fn limits_of(pool: &PoolPlan) -> PoolLimits {
    PoolLimits {
        pages: pool.pages,
        window: pool.sizes.reach.window,
    }
}

/// Checks the settings against each other and the model; returns the context to serve.
pub(crate) fn check(settings: &ReplicaSettings, model: &ModelDescription) -> Result<usize, LoadError> {
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
    if let Some(typical) = settings.typical.filter(|typical| typical.tokens() > context) {
        return refuse(
            "batch.typical",
            format!(
                "a typical sequence of {} + {} tokens does not fit a context of {context}; use {context} tokens or fewer in all",
                typical.prompt, typical.output
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
    let (split, most) = match settings.cores {
        CoreRequest::Named(cores) => (settings.split, cores),
        CoreRequest::Free { most, .. } => (settings.split, CoreShare::whole(most)),
    };
    if split > 1 && most.whole_cores() < split {
        return refuse(
            "device.cores",
            format!("a split of {split} needs {split} cores, one for each shard, and has {most}"),
        );
    }
    Ok(context)
}
