//! The executor for this machine's cores: real arithmetic on real weights.

mod build;
mod calibrate;
mod exchange;
mod experts;
mod forward;
mod grams;
mod model;
mod results;
mod shard;
mod source;
mod weights;

pub use build::{BuildOrder, build};
pub use calibrate::{CalibrationStep, calibrate, calibration_bytes};
pub use source::Rounded;

use crate::executor::{Executor, ExecutorError, MemoryReport, Report, StepBatch, wait_for};
use crate::sampling;
use exchange::Exchange;
use forward::Forward;
use model::Model;
use results::Results;
use shard::{ShardCommand, ShardThread};
use std::panic::resume_unwind;
use std::sync::Arc;
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::{KvPrecision, LayerPages, Shape};
use vastrelay_kernels::reserved::Untouched;
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_weights::{Build, Checkpoint, Kind, ModelDescription, Precision, Shard, WeightsError};
use weights::bytes_in;

/// What the executor may use.
#[derive(Clone, Debug)]
pub struct CpuSettings {
    /// Instructions; [`Isa::detect`] for the best there are.
    pub isa: Isa,
    /// Threads that it computes with, divided among its shards.
    pub cores: usize,
    /// Whether they spin while they wait for one another.
    pub spinning: Spinning,
    /// Shards that the model is divided into.
    pub split: usize,
    /// Most tokens of one sequence.
    pub context: usize,
    /// Most tokens of one step.
    pub step_tokens: usize,
    /// Most rows of one step.
    pub width: usize,
    /// Pages of KV memory for each of the model's [`ModelDescription::reaches`].
    pub pages: Vec<usize>,
    /// Weight precision to run in.
    pub weights: Precision,
    /// KV cache precision.
    pub kv: KvPrecision,
}

/// The largest step of an executor, as far as its workspace depends on it.
#[derive(Clone, Copy, Debug)]
pub struct StepSize {
    /// Shards that the model is divided into.
    pub split: usize,
    /// Most tokens of a step.
    pub tokens: usize,
    /// Most rows of a step.
    pub width: usize,
    /// Most tokens of one sequence.
    pub context: usize,
    /// Threads that it computes with, divided among its shards.
    pub cores: usize,
}

/// Bytes of a replica's program, records and buffers with any model.
const PROGRAM_BYTES: usize = 16 << 20;
/// Bytes of a kernel thread's stack that are used.
const STACK_BYTES: usize = 256 << 10;
/// Bytes of a tokenizer for each token of its vocabulary.
const TOKENIZER_BYTES: usize = 600;

/// Runs steps on a thread of its own for each shard, which leads the shard's pool of kernel threads.
///
/// Shards have their own weights, KV memory, workspace and cores; they meet in their exchange only.
pub struct CpuExecutor {
    memory: MemoryReport,
    vocabulary: usize,
    shards: Vec<ShardThread>,
    results: Arc<Results>,
}

impl CpuExecutor {
    /// Returns the bytes of one KV page in so many layers of all shards.
    pub fn page_bytes(model: &ModelDescription, layers: usize, split: usize, kv: KvPrecision) -> usize {
        let shard = |shard| LayerPages::bytes_per_page(shape(&model.of_shard(shard), 0), kv);
        layers * Shard::all(split).map(shard).sum::<usize>()
    }

    /// Returns the bytes that weights take in a precision, up to what rounds off the last outputs of a matrix; `stored` says what each
    /// tensor is stored as.
    pub fn weight_bytes(
        stored: &dyn Fn(&str) -> Kind,
        model: &ModelDescription,
        precision: Precision,
        split: usize,
    ) -> usize {
        let bytes = |(name, shape): (String, Vec<usize>)| {
            let elements: usize = shape.iter().product();
            let kind = stored(&name);
            match shape.len() {
                2 if name.starts_with("model.embed_tokens") || name.starts_with("lm_head") => {
                    bytes_in(precision.of_embeddings(), kind, elements)
                }
                2 => bytes_in(precision, kind, elements) * copies(model, split, &name),
                _ => elements * size_of::<f32>() * split,
            }
        };
        model.tensors().into_iter().map(bytes).sum()
    }

    /// Returns about the bytes that the weights of a build take on all shards, which have copies of what each of them needs.
    pub fn build_bytes(build: &Build, model: &ModelDescription, split: usize) -> usize {
        let (bytes, tensors) = (build.bytes(), model.tensors());
        let elements_of = |shape: &[usize]| shape.iter().product::<usize>();
        let elements: usize = tensors.iter().map(|(_, shape)| elements_of(shape)).sum();
        let copied = |(name, shape): &(String, Vec<usize>)| match shape.len() {
            1 => (split - 1) * elements_of(shape) * size_of::<f32>(),
            // Which bytes of a joined matrix these are does not matter much.
            _ => (copies(model, split, name) - 1) * (elements_of(shape) * bytes).div_ceil(elements.max(1)),
        };
        bytes + tensors.iter().map(copied).sum::<usize>()
    }

    /// Returns the bytes of activations, tables and buffers for steps of a size, on all shards.
    pub fn workspace_bytes(model: &ModelDescription, size: StepSize) -> usize {
        let StepSize {
            split,
            tokens,
            width,
            context,
            cores,
        } = size;
        let shard = |shard| {
            Forward::workspace_bytes(&model.of_shard(shard), tokens, width)
                + context * model.head_dim * size_of::<f32>()
        };
        // Shards exchange sums, now and one step earlier, and logits of the whole vocabulary.
        let sums = tokens * split * model.width;
        let logits = Forward::logit_rows(tokens, width) * model.vocabulary;
        let exchanged = if split > 1 { 2 * sums.max(logits) + logits } else { 0 };
        let sampler = cores.div_ceil(split) * sampling::bytes_per_thread(model.vocabulary);
        Shard::all(split).map(shard).sum::<usize>() + exchanged * size_of::<f32>() + sampler
    }

    /// Returns an estimate of a replica's other bytes: program and records, stacks of threads, and the tokenizer, which grows with the
    /// vocabulary.
    pub fn process_bytes(model: &ModelDescription, cores: usize) -> usize {
        PROGRAM_BYTES + cores * STACK_BYTES + model.vocabulary * TOKENIZER_BYTES
    }

    /// Packs the weights of a checkpoint, reserves KV memory and starts the threads.
    ///
    /// # Errors
    /// When the checkpoint does not hold what the description says, or the split does not divide the model.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn load(
        checkpoint: &Checkpoint,
        description: &ModelDescription,
        settings: CpuSettings,
    ) -> Result<CpuExecutor, WeightsError> {
        let rounded = Rounded::new();
        let CpuSettings { weights, context, .. } = settings;
        CpuExecutor::start(description, settings, |shard| {
            Model::of_checkpoint(checkpoint, description, weights, &rounded, context, shard)
        })
    }

    /// Takes the weights of a build as they lie in its file, or a copy of each shard's part of them, reserves KV memory and starts
    /// the threads.
    ///
    /// # Errors
    /// When the build does not hold what the description says, or the split does not divide the model.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn load_build(
        build: &Build,
        description: &ModelDescription,
        settings: CpuSettings,
    ) -> Result<CpuExecutor, WeightsError> {
        let context = settings.context;
        CpuExecutor::start(description, settings, |shard| {
            Model::of_build(build, description, context, shard)
        })
    }

    /// Reads each shard's weights on a thread of its own and starts all shards.
    fn start(
        description: &ModelDescription,
        settings: CpuSettings,
        read: impl Fn(Shard) -> Result<Model, WeightsError> + Sync,
    ) -> Result<CpuExecutor, WeightsError> {
        let CpuSettings { split, context, kv, .. } = settings;
        description.check_split(split)?;
        let models: Vec<Model> = std::thread::scope(|scope| {
            let read = &read;
            let readers: Vec<_> = Shard::all(split)
                .map(|shard| scope.spawn(move || read(shard)))
                .collect();
            let models = readers
                .into_iter()
                .map(|reader| reader.join().unwrap_or_else(|panic| resume_unwind(panic)));
            models.collect::<Result<Vec<Model>, WeightsError>>()
        })?;
        let reaches = description.reaches();
        assert_eq!(reaches.len(), settings.pages.len(), "pages for each kind of layer");
        let pools = reaches.iter().zip(&settings.pages);
        let memory = MemoryReport {
            weights: models.iter().map(Model::bytes).sum(),
            kv_pool: pools
                .map(|(reach, pages)| pages * CpuExecutor::page_bytes(description, reach.layers, split, kv))
                .sum(),
            pools: reaches.len(),
            page: CpuExecutor::page_bytes(description, description.layers, split, kv),
            workspace: CpuExecutor::workspace_bytes(
                description,
                StepSize {
                    split,
                    tokens: settings.step_tokens,
                    width: settings.width,
                    context,
                    cores: settings.cores,
                },
            ),
        };
        let shards = models.into_iter().zip(Exchange::all(split, &settings.spinning));
        let results = Arc::new(Results::default());
        Ok(CpuExecutor {
            memory,
            shards: shards
                .map(|(model, exchange)| ShardThread::start(model, exchange, &settings, results.clone()))
                .collect(),
            vocabulary: description.vocabulary,
            results,
        })
    }
}

impl Executor for CpuExecutor {
    fn memory(&self) -> MemoryReport {
        self.memory
    }

    fn vocabulary(&self) -> usize {
        self.vocabulary
    }

    fn submit(&mut self, batch: Arc<StepBatch>, report: &Report) -> Result<(), ExecutorError> {
        self.order(&ShardCommand::Step(batch), report)
    }
}

impl CpuExecutor {
    /// Returns the KV memory of all shards, for somebody who touches it: the system has promised it and not given it yet.
    pub fn untouched(&self) -> Vec<Untouched> {
        self.shards.iter().flat_map(|shard| shard.kv.clone()).collect()
    }

    /// Fills all KV memory with random values, to measure steps without computing what they read.
    ///
    /// # Errors
    /// As a step's.
    pub fn fill_kv(&mut self, seed: u64) -> Result<(), ExecutorError> {
        wait_for(|report| self.order(&ShardCommand::Fill(seed), report)).map(drop)
    }

    fn order(&mut self, order: &ShardCommand, report: &Report) -> Result<(), ExecutorError> {
        if !self.results.expect(self.shards.len(), report) {
            return Err(ExecutorError("a step is under way already".into()));
        }
        let taken = self.shards.iter().all(|shard| shard.take(order));
        if taken {
            Ok(())
        } else {
            Err(ExecutorError("its thread has ended".into()))
        }
    }
}

/// Returns on how many shards each weight of a tensor is: key and value heads are copied where there are fewer than shards, and
/// routers are on all.
fn copies(model: &ModelDescription, split: usize, name: &str) -> usize {
    // Also where they are one with the queries; what is reserved for these is too much then.
    let of_kv = ["k_proj.weight", "v_proj.weight"].iter().any(|end| name.ends_with(end));
    match name {
        _ if of_kv => split.div_ceil(model.kv_heads),
        _ if name.ends_with(".gate.weight") => split,
        _ => 1,
    }
}

/// Returns the KV memory of each layer.
fn layer_pages(model: &ModelDescription, settings: &CpuSettings) -> Vec<LayerPages> {
    let reaches = model.reach_of_layers().into_iter().enumerate();
    reaches
        .map(|(layer, reach)| LayerPages::new(settings.pages[reach], shape(model, layer), settings.kv))
        .collect()
}

fn shape(model: &ModelDescription, layer: usize) -> Shape {
    Shape {
        heads: model.heads,
        kv_heads: model.kv_heads,
        head_dim: model.head_dim,
        scale: model.score_scale,
        cap: model.score_cap,
        window: model.windows[layer],
    }
}
