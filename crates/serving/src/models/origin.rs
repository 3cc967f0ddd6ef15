//! The origin of a model's weights: a checkpoint or a build.

use vastrelay_engine::CpuExecutor;
use vastrelay_engine::cpu::{CpuSettings, StepSize};
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_planner::{PoolSizes, Sizes};
use vastrelay_weights::build::Checked;
use vastrelay_weights::description::AttentionReach;
use vastrelay_weights::{Build, Checkpoint, ModelDescription, ModelFiles, Precision, WeightsError};

/// Where a model's weights come from.
pub enum Origin {
    /// A checkpoint, as published.
    Checkpoint(Checkpoint),
    /// A build.
    Build(Build),
}

/// How a model would run, as far as its sizes depend on it.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// The precision of a checkpoint's weights; a build has its own.
    pub weights: Precision,
    /// The precision of keys and values.
    pub kv: KvPrecision,
    /// Shards that the model is divided into.
    pub split: usize,
    /// Cores of its own.
    pub cores: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens of one sequence.
    pub context: usize,
}

impl Shape {
    /// Returns what the CPU's executor takes for a model whose weights take so many bytes.
    pub fn sizes(self, description: &ModelDescription, weights: usize) -> Sizes {
        let Shape {
            kv,
            split,
            step_budget,
            width,
            context,
            cores,
            ..
        } = self;
        let pool = |reach: AttentionReach| PoolSizes {
            reach,
            page: CpuExecutor::page_bytes(description, reach.layers, split, kv),
            per_sequence: reach.most_held(context, step_budget),
        };
        Sizes {
            weights,
            workspace: CpuExecutor::workspace_bytes(
                description,
                StepSize {
                    split,
                    tokens: step_budget,
                    width,
                    context,
                    cores,
                },
            ),
            process: CpuExecutor::process_bytes(description, cores),
            pools: description.reaches().into_iter().map(pool).collect(),
        }
    }
}

impl Origin {
    /// Makes sure that files hold what the description says; a build is not read again that is as it was when it was checked before.
    ///
    /// # Errors
    /// When it does not.
    pub fn open(
        files: &ModelFiles,
        description: &ModelDescription,
        before: Option<&Checked>,
    ) -> Result<Origin, WeightsError> {
        if Build::is_one(files.path()) {
            return Ok(Origin::Build(Build::open_checked(files.path(), before)?));
        }
        let checkpoint = Checkpoint::read(files)?;
        description.check(&checkpoint)?;
        Ok(Origin::Checkpoint(checkpoint))
    }

    /// Returns that a build is what was written, for whoever opens it next.
    pub fn checked(&self) -> Option<&Checked> {
        match self {
            Origin::Checkpoint(_) => None,
            Origin::Build(build) => build.checked(),
        }
    }

    /// Returns the bytes that the weights take in a precision on all shards.
    pub fn weight_bytes(&self, description: &ModelDescription, precision: Precision, split: usize) -> usize {
        match self {
            Origin::Checkpoint(checkpoint) => {
                CpuExecutor::weight_bytes(&|tensor| checkpoint.kind(tensor), description, precision, split)
            }
            Origin::Build(build) => CpuExecutor::build_bytes(build, description, split),
        }
    }

    /// Returns what the CPU's executor takes to run it.
    pub fn sizes(&self, description: &ModelDescription, shape: Shape) -> Sizes {
        shape.sizes(description, self.weight_bytes(description, shape.weights, shape.split))
    }

    /// Returns the precision that the weights will have.
    pub fn precision(&self, wanted: Precision) -> Precision {
        match self {
            Origin::Checkpoint(_) => wanted,
            Origin::Build(build) => build.facts.precisions.weights,
        }
    }

    /// Returns how keys and values are kept unless something else is asked for.
    pub fn usual_kv(&self) -> KvPrecision {
        match self {
            Origin::Checkpoint(_) => KvPrecision::default(),
            Origin::Build(build) => build.facts.precisions.kv,
        }
    }

    /// Starts an executor.
    ///
    /// # Errors
    /// When the weights are not what the description says.
    pub fn load(&self, description: &ModelDescription, settings: CpuSettings) -> Result<CpuExecutor, WeightsError> {
        match self {
            Origin::Checkpoint(checkpoint) => CpuExecutor::load(checkpoint, description, settings),
            Origin::Build(build) => CpuExecutor::load_build(build, description, settings),
        }
    }
}
