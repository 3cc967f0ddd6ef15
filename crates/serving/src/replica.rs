//! From a folder of weights to something that answers.

use crate::device::{DeviceMemory, HeldMemory, Holders};
use crate::generate::Generate;
use crate::memory::{DoesNotFit, MemoryPlan, MemoryWish, PoolPlan};
use crate::origin::Origin;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_engine::cpu::{CpuSettings, Precision};
use vastrelay_engine::{Engine, Executor, Limits, PoolLimits};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_text::{ChatTemplate, TextError, Tokenizer};
use vastrelay_weights::{GenerationDefaults, Gguf, ModelDescription, WeightsError};

/// Maximum sequences in a batch.
const MOST_WIDTH: usize = 4_096;
/// Most tokens in one step.
const MOST_STEP: usize = 1 << 20;

/// How a model is to be served.
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
    /// Most prompt tokens of one sequence in one step.
    pub prefill_chunk: Option<usize>,
    /// Instructions of its kernels.
    pub isa: Isa,
    /// Cores of its own.
    pub cores: usize,
    /// Shards that it is divided into, each with its own part of the weights, KV memory and cores.
    pub split: usize,
    /// Fraction of the device's memory it may take.
    pub memory_share: f64,
    /// KV pages; as many as fit and are of use when absent.
    pub pages: Option<usize>,
    /// The device's memory, shared with other models.
    pub device: DeviceMemory,
    /// Weight precision to run in.
    pub weights: Precision,
    /// KV cache precision; the build's own, or bf16, when absent.
    pub kv: Option<KvPrecision>,
}

/// A model, loaded and answering.
pub struct Replica {
    /// The name that callers use.
    pub name: String,
    /// What the model is.
    pub description: ModelDescription,
    /// Its tokenizer.
    pub tokenizer: Tokenizer,
    /// Its chat template, when it has one.
    pub template: Option<ChatTemplate>,
    /// What its publisher says about generating.
    pub defaults: GenerationDefaults,
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
    /// Weight precision that it runs in.
    pub weights: String,
    /// Its part of the device's memory.
    pub held: HeldMemory,
}

/// Why a model cannot be served.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LoadError {
    /// The weights or their description.
    #[error(transparent)]
    Weights(#[from] WeightsError),
    /// The tokenizer or template.
    #[error(transparent)]
    Text(#[from] TextError),
    /// The memory.
    #[error("{folder} does not fit: {source}{}", others(holders))]
    Memory {
        /// The model.
        folder: PathBuf,
        /// By how much.
        source: DoesNotFit,
        /// Who holds memory of the same device.
        holders: Holders,
    },
    /// A setting that cannot be.
    #[error("{0}")]
    Setting(String),
}

impl Replica {
    /// Loads a folder and starts its engine.
    ///
    /// # Errors
    /// When the folder cannot be read, run or fitted, or a setting cannot be; the text says which and what would work.
    pub fn load(name: &str, folder: &Path, settings: &ReplicaSettings) -> Result<Replica, LoadError> {
        let description = ModelDescription::open(folder)?;
        let context = check(settings, &description)?;
        let origin = Origin::open(folder, &description)?;
        if matches!(origin, Origin::Build(_)) && settings.weights != Precision::AsStored {
            return Err(LoadError::Setting(format!(
                "{} is a build of {}; another precision is built from the checkpoint",
                folder.display(),
                origin.precision_name(settings.weights)
            )));
        }
        let kv = settings.kv.unwrap_or(origin.usual_kv());
        let (tokenizer, template) = texts(folder)?;
        let defaults = GenerationDefaults::open(folder)?;
        let share = (settings.device.total() as f64 * settings.memory_share) as usize;
        let weight_bytes = origin.weight_bytes(&description, settings.weights, settings.split);
        let (held, memory) = settings.device.hold(name, |free, holders| {
            let wish = MemoryWish {
                weights: weight_bytes,
                device: settings.device.total(),
                budget: share.min(free),
                split: settings.split,
                width: settings.width,
                step_budget: settings.step_budget,
                context,
                pages: settings.pages,
                kv,
            };
            let plan = MemoryPlan::new(&description, wish).map_err(|source| LoadError::Memory {
                folder: folder.to_owned(),
                source,
                holders,
            })?;
            Ok::<_, LoadError>((plan.total(), plan))
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
        let executor = origin.load(&description, cpu)?;
        let memory = MemoryPlan {
            weights: executor.memory().weights,
            ..memory
        };
        let limits = Limits {
            width: settings.width,
            step_budget: settings.step_budget,
            context,
            queue_depth: settings.queue_depth,
            pools: memory.pools.iter().map(limits_of).collect(),
            prefill_chunk: settings.prefill_chunk,
        };
        let build = format!(
            "{} {} {} {}",
            folder.display(),
            isa.name(),
            origin.precision_name(settings.weights),
            kv.name()
        );
        let engine = Engine::start(Box::new(executor), tokenizer.pieces().clone(), limits, build);
        Ok(Replica {
            name: name.to_owned(),
            description,
            tokenizer,
            template,
            defaults,
            generate: Arc::new(engine),
            memory,
            instructions: isa.name(),
            cores: settings.cores,
            split: settings.split,
            weights: origin.precision_name(settings.weights),
            held,
        })
    }
}

/// Says who else holds memory, where anybody does.
fn others(holders: &Holders) -> String {
    if holders.is_empty() {
        String::new()
    } else {
        format!("; other models on this device hold: {holders}")
    }
}

fn limits_of(pool: &PoolPlan) -> PoolLimits {
    PoolLimits {
        pages: pool.pages,
        window: pool.sight.window,
    }
}

/// Returns the tokenizer and the chat template of a folder or a GGUF file.
///
/// # Errors
/// When one of them cannot be read.
pub fn texts(path: &Path) -> Result<(Tokenizer, Option<ChatTemplate>), LoadError> {
    if !Gguf::is_one(path) {
        return Ok((Tokenizer::open(path)?, ChatTemplate::open(path)?));
    }
    let gguf = Gguf::open(path)?;
    let tokenizer = Tokenizer::parse(path, gguf.tokenizer()?.to_string().as_bytes())?;
    let bound = |which: &str| gguf.bound(which).unwrap_or_default().to_owned();
    let template = gguf
        .template()
        .map(|source| ChatTemplate::new(source.to_owned(), bound("bos"), bound("eos")));
    let template = template.transpose().map_err(|error| TextError::Format {
        path: path.to_owned(),
        reason: format!("the chat template is not valid Jinja: {error}"),
    })?;
    Ok((tokenizer, template))
}

/// Checks the settings against each other and the model; returns the context to serve.
fn check(settings: &ReplicaSettings, model: &ModelDescription) -> Result<usize, LoadError> {
    let context = settings.context.unwrap_or(model.context);
    let refuse = |text: String| Err(LoadError::Setting(text));
    if settings.width == 0 || settings.width > MOST_WIDTH {
        return refuse(format!(
            "a width of {} does not work; 1 to {MOST_WIDTH} does",
            settings.width
        ));
    }
    if settings.step_budget > MOST_STEP {
        return refuse(format!(
            "a step budget of {} does not work; up to {MOST_STEP} does",
            settings.step_budget
        ));
    }
    if settings.step_budget < settings.width {
        let ReplicaSettings { step_budget, width, .. } = settings;
        return refuse(format!(
            "a step budget of {step_budget} is less than the width of {width}; use {width} or more"
        ));
    }
    if settings.prefill_chunk == Some(0) {
        return refuse("a prefill chunk of 0 tokens does not work; use 1 or more".into());
    }
    if context == 0 || context > model.context {
        return refuse(format!(
            "a context of {context} tokens does not work; this model supports 1 to {}",
            model.context
        ));
    }
    if !(settings.memory_share > 0.0 && settings.memory_share <= 1.0) {
        return refuse(format!(
            "a memory share of {} does not work; use more than 0 and at most 1",
            settings.memory_share
        ));
    }
    if settings.cores == 0 {
        return refuse("0 cores do not work; use 1 or more".into());
    }
    model
        .check_split(settings.split)
        .map_err(|error| LoadError::Setting(error.to_string()))?;
    if settings.cores < settings.split {
        let ReplicaSettings { cores, split, .. } = settings;
        return refuse(format!(
            "a split of {split} needs {split} cores, one for each shard, and has {cores}"
        ));
    }
    Ok(context)
}
