//! Converting a model once, into the layout that the kernels read.

use super::model::Model;
use super::source::Rounded;
use std::collections::BTreeMap;
use std::path::Path;
use vastrelay_weights::build::{Facts, VERSION, Written};
use vastrelay_weights::{Build, Checkpoint, ModelDescription, Precisions, Shard, WeightsError};

/// What is to be built.
#[derive(Clone, Debug)]
pub struct BuildOrder {
    /// The name of what it is built from.
    pub source: String,
    /// The precision of matrices, and of keys and values unless the caller asks for another.
    pub precisions: Precisions,
    /// The text that rounding was calibrated on, if it was.
    pub calibrated_on: Option<String>,
}

/// Converts a checkpoint and writes what kernels need into a folder; `rounded` takes the place of its own matrices.
///
/// The same checkpoint and order make the same bytes.
///
/// # Errors
/// When the checkpoint is not what the description says, or the folder cannot be written to.
pub fn build(
    checkpoint: &Checkpoint,
    description: &ModelDescription,
    order: &BuildOrder,
    rounded: &Rounded,
    folder: &Path,
) -> Result<(), WeightsError> {
    let model = Model::of_checkpoint(
        checkpoint,
        description,
        order.precisions.weights,
        rounded,
        1,
        Shard::WHOLE,
    )?;
    let mut tensors = BTreeMap::new();
    let mut matrices = BTreeMap::new();
    for matrix in model.matrices() {
        matrices.insert(matrix.name.clone(), matrix.write(&mut tensors));
    }
    let vectors = description.tensors().into_iter().filter(|(_, shape)| shape.len() == 1);
    let vectors = vectors
        .map(|(name, shape)| Ok((checkpoint.tensor(&name, &shape)?.to_f32(), name)))
        .collect::<Result<Vec<(Vec<f32>, String)>, WeightsError>>()?;
    for (values, name) in &vectors {
        tensors.insert(name.clone(), Written::F32(values));
    }
    let facts = Facts {
        version: VERSION,
        source: order.source.clone(),
        precisions: order.precisions,
        calibrated_on: order.calibrated_on.clone(),
        matrices,
        checksum: String::new(),
    };
    Build::write(folder, &tensors, facts)
}
