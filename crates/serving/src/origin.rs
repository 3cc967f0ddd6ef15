//! What a path holds: a checkpoint to be converted while it is loaded, or a build that is mapped as it lies.

use std::path::Path;
use vastrelay_engine::CpuExecutor;
use vastrelay_engine::cpu::{CpuSettings, Precision};
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_weights::{Build, Checkpoint, ModelDescription, WeightsError};

/// Where a model's weights come from.
pub enum Origin {
    /// A checkpoint, as published.
    Checkpoint(Checkpoint),
    /// A build.
    Build(Build),
}

impl Origin {
    /// Opens a path and makes sure that it holds what the description says.
    ///
    /// # Errors
    /// When it does not.
    pub fn open(path: &Path, description: &ModelDescription) -> Result<Origin, WeightsError> {
        if Build::is_one(path) {
            return Ok(Origin::Build(Build::open(path)?));
        }
        let checkpoint = Checkpoint::open(path)?;
        description.check(&checkpoint)?;
        Ok(Origin::Checkpoint(checkpoint))
    }

    /// Returns the bytes that the weights take in a precision on all shards.
    pub fn weight_bytes(&self, description: &ModelDescription, precision: Precision, split: usize) -> usize {
        match self {
            Origin::Checkpoint(checkpoint) => CpuExecutor::weight_bytes(checkpoint, description, precision, split),
            Origin::Build(build) => build.bytes(),
        }
    }

    /// Returns the name of the precision that the weights will have.
    pub fn precision_name(&self, precision: Precision) -> String {
        match self {
            Origin::Checkpoint(_) => precision.name(),
            Origin::Build(build) => build.facts.weights.clone(),
        }
    }

    /// Returns how keys and values are kept unless something else is asked for.
    pub fn usual_kv(&self) -> KvPrecision {
        match self {
            Origin::Checkpoint(_) => KvPrecision::default(),
            Origin::Build(build) => KvPrecision::of(&build.facts.kv).unwrap_or_default(),
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
