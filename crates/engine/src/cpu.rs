//! The executor for this machine's cores: real arithmetic on real weights.

mod build;
mod calibrate;
mod experts;
mod forward;
mod model;
mod weights;

pub use build::{BuildOrder, build};
pub use calibrate::{CalibrationStep, calibrate, calibration_bytes};
pub use model::Rounded;
pub use weights::Precision;

use crate::executor::{Executor, ExecutorError, MemoryReport, StepBatch, StepHandle, StepResult};
use forward::Forward;
use model::Model;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc;
use std::thread::JoinHandle;
use vastrelay_kernels::attention::{KvPrecision, LayerPages, PAGE_TOKENS, Shape};
use vastrelay_kernels::{Isa, Pool};
use vastrelay_weights::{Build, Checkpoint, ModelDescription, WeightsError};

/// What the executor may use.
#[derive(Clone, Copy, Debug)]
pub struct CpuSettings {
    /// Instructions; [`Isa::detect`] for the best there are.
    pub isa: Isa,
    /// Cores that are its own.
    pub cores: usize,
    /// Most tokens of one sequence.
    pub context: usize,
    /// Most tokens of one step.
    pub step_tokens: usize,
    /// Pages of KV memory.
    pub pages: usize,
    /// What matrices are turned into.
    pub weights: Precision,
    /// How keys and values are kept.
    pub kv: KvPrecision,
}

/// Runs steps on a thread of its own, which leads the pool of kernel threads.
pub struct CpuExecutor {
    memory: MemoryReport,
    batches: Option<mpsc::Sender<StepBatch>>,
    results: mpsc::Receiver<Result<StepResult, String>>,
    submitted: u64,
    waited: u64,
    thread: Option<JoinHandle<()>>,
}

impl CpuExecutor {
    /// Returns the bytes of one KV page in all layers.
    pub fn page_bytes(model: &ModelDescription, kv: KvPrecision) -> usize {
        model.layers * LayerPages::bytes_per_page(shape(model, 0), kv)
    }

    /// Returns the bytes that a checkpoint's weights take in a precision, up to what rounds off the last outputs of a matrix.
    pub fn weight_bytes(checkpoint: &Checkpoint, model: &ModelDescription, precision: Precision) -> usize {
        let bytes = |(name, shape): (String, Vec<usize>)| {
            let elements: usize = shape.iter().product();
            let kind = checkpoint.kind(&name);
            match shape.len() {
                2 if name.starts_with("model.embed_tokens") || name.starts_with("lm_head") => {
                    precision.of_embeddings().bytes(kind, elements)
                }
                2 => precision.bytes(kind, elements),
                _ => elements * size_of::<f32>(),
            }
        };
        model.tensors().into_iter().map(bytes).sum()
    }

    /// Returns the bytes of activations and tables for a step of so many tokens and a context.
    pub fn workspace_bytes(model: &ModelDescription, step_tokens: usize, context: usize) -> usize {
        Forward::workspace_bytes(model, step_tokens) + context * model.head_dim * size_of::<f32>()
    }

    /// Packs the weights of a checkpoint, reserves KV memory and starts the threads.
    ///
    /// # Errors
    /// When the checkpoint does not hold what the description says.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn load(
        checkpoint: &Checkpoint,
        description: &ModelDescription,
        settings: CpuSettings,
    ) -> Result<CpuExecutor, WeightsError> {
        let rounded = Rounded::new();
        let model = Model::of_checkpoint(checkpoint, description, settings.weights, &rounded, settings.context)?;
        Ok(CpuExecutor::start(model, settings))
    }

    /// Takes the weights of a build as they lie in its file, reserves KV memory and starts the threads.
    ///
    /// # Errors
    /// When the build does not hold what the description says.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn load_build(
        build: &Build,
        description: &ModelDescription,
        settings: CpuSettings,
    ) -> Result<CpuExecutor, WeightsError> {
        let model = Model::of_build(build, description, settings.context)?;
        Ok(CpuExecutor::start(model, settings))
    }

    fn start(model: Model, settings: CpuSettings) -> CpuExecutor {
        let description = model.description.clone();
        let memory = MemoryReport {
            weights: model.bytes(),
            kv_pool: settings.pages * CpuExecutor::page_bytes(&description, settings.kv),
            page: CpuExecutor::page_bytes(&description, settings.kv),
            page_tokens: PAGE_TOKENS,
            pages: settings.pages,
            workspace: CpuExecutor::workspace_bytes(&description, settings.step_tokens, settings.context),
        };
        let layers = (0..description.layers)
            .map(|layer| LayerPages::new(settings.pages, shape(&description, layer), settings.kv))
            .collect();
        let (batches, inbox) = mpsc::channel::<StepBatch>();
        let (outbox, results) = mpsc::channel();
        let thread = std::thread::Builder::new()
            .name("executor".into())
            .spawn(move || {
                let mut forward = Forward::new(model, layers, settings.isa, Pool::new(settings.cores));
                for batch in inbox {
                    let outcome = catch_unwind(AssertUnwindSafe(|| forward.step(&batch)));
                    let result = outcome.map_err(|panic| describe_panic(&*panic));
                    if outbox.send(result).is_err() {
                        return;
                    }
                }
            })
            .expect("the system gives a thread for the executor");
        CpuExecutor {
            memory,
            batches: Some(batches),
            results,
            submitted: 0,
            waited: 0,
            thread: Some(thread),
        }
    }
}

impl Executor for CpuExecutor {
    fn memory(&self) -> MemoryReport {
        self.memory
    }

    fn submit(&mut self, batch: StepBatch) -> Result<StepHandle, ExecutorError> {
        if self.submitted > self.waited {
            return Err(ExecutorError("a step is under way already".into()));
        }
        let batches = self
            .batches
            .as_ref()
            .ok_or_else(|| ExecutorError("it is shut down".into()))?;
        batches
            .send(batch)
            .map_err(|_| ExecutorError("its thread has ended".into()))?;
        self.submitted += 1;
        Ok(StepHandle(self.submitted))
    }

    fn wait(&mut self, handle: StepHandle) -> Result<StepResult, ExecutorError> {
        if handle != StepHandle(self.waited + 1) {
            return Err(ExecutorError(format!("step {} is not the one under way", handle.0)));
        }
        self.waited += 1;
        let result = self
            .results
            .recv()
            .map_err(|_| ExecutorError("its thread has ended".into()))?;
        result.map_err(ExecutorError)
    }
}

impl Drop for CpuExecutor {
    fn drop(&mut self) {
        self.batches = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
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

fn describe_panic(panic: &(dyn std::any::Any + Send)) -> String {
    let text = panic
        .downcast_ref::<String>()
        .map(String::as_str)
        .or(panic.downcast_ref::<&str>().copied());
    text.unwrap_or("a kernel panicked").to_owned()
}
