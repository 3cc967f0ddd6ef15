//! Rounding a model's matrices with an eye on what they are multiplied with.

use super::exchange::Exchange;
use super::forward::Forward;
use super::grams::Grams;
use super::model::Model;
use super::source::Rounded;
use super::{CpuSettings, layer_pages};
use crate::executor::{BatchRow, StepBatch, TableChange, Want};
use std::collections::BTreeMap;
use vastrelay_kernels::ThreadPool;
use vastrelay_kernels::attention::PAGE_TOKENS;
use vastrelay_kernels::groups::Bits;
use vastrelay_weights::compensated::Compensation;
use vastrelay_weights::{Checkpoint, ModelDescription, Shard, WeightsError};

/// How far calibration has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CalibrationStep {
    /// So many tokens of the text have been read.
    Read(usize),
    /// So many matrices of all have been rounded.
    Rounded(usize, usize),
}

/// Returns the bytes that calibration takes beside the model.
pub fn calibration_bytes(model: &ModelDescription) -> usize {
    let square = |inputs: usize| inputs * inputs * size_of::<f32>();
    let layer = |index| {
        let mlp = match model.experts_of(index) {
            Some(experts) => experts.count * (square(model.width) + square(experts.width)),
            None => square(model.width) + square(model.mlp_width),
        };
        square(model.width) + square(model.heads * model.head_dim) + mlp
    };
    (0..model.layers).map(layer).sum()
}

/// Rounds a model's matrices so that what it makes of texts changes as little as may be. Embeddings, head and routers are left
/// alone.
///
/// # Errors
/// When the checkpoint is not what the description says.
pub fn calibrate(
    checkpoint: &Checkpoint,
    description: &ModelDescription,
    texts: &[Vec<u32>],
    (bits, group): (Bits, usize),
    settings: CpuSettings,
    mut on_step: impl FnMut(CalibrationStep),
) -> Result<Rounded, WeightsError> {
    let model = Model::of_checkpoint(
        checkpoint,
        description,
        settings.weights,
        &Rounded::new(),
        settings.context,
        Shard::WHOLE,
    )?;
    let layers = layer_pages(description, &settings);
    let mut forward = Forward::new(
        model,
        layers,
        settings.isa,
        ThreadPool::new(settings.cores),
        Exchange::unsplit(),
    );
    forward.gather(Some(Grams::default()));
    let pages = settings.pages.iter().min().copied().unwrap_or(0);
    let window = settings.step_tokens.min(pages * PAGE_TOKENS).min(settings.context);
    let mut read = 0;
    for piece in texts.iter().flat_map(|text| text.chunks(window)) {
        forward.step(&StepBatch {
            copies: Vec::new(),
            rows: vec![BatchRow {
                tokens: piece.into(),
                drafts: 0,
                start: 0,
                slot: 0,
                tables: TableChange::all(vec![(0..pages as u32).collect(); settings.pages.len()]),
                whole: None,
                want: Want::Nothing,
                logprobs: None,
            }],
        });
        read += piece.len();
        on_step(CalibrationStep::Read(read));
    }
    let Grams(grams) = forward.gather(None).unwrap_or_default();
    drop(forward);
    let shapes: BTreeMap<String, Vec<usize>> = description.tensors().into_iter().collect();
    let mut rounded = Rounded::new();
    for (number, (name, gram)) in grams.iter().enumerate() {
        let tensors: Vec<String> = parts(name).filter(|tensor| is_rounded(tensor)).collect();
        if let Some(first) = tensors.first() {
            // What shares its inputs shares what is known of them.
            let compensation = Compensation::new(gram, shapes[first][1]);
            for tensor in tensors {
                let values = checkpoint.matrix(&tensor, &shapes[&tensor])?.to_f32();
                let matrix = compensation.round(&values, bits, group, settings.cores);
                rounded.insert(tensor, matrix);
            }
        }
        on_step(CalibrationStep::Rounded(number + 1, grams.len()));
    }
    Ok(rounded)
}

/// Returns the tensors that are joined under a name.
fn parts(name: &str) -> impl Iterator<Item = String> + '_ {
    let (at, last) = name.rsplit_once('.').unwrap_or(("", name));
    last.split('+').map(move |part| format!("{at}.{part}.weight"))
}

/// Returns whether a tensor is a layer's and no router.
fn is_rounded(tensor: &str) -> bool {
    tensor.starts_with("model.layers.") && !tensor.ends_with(".gate.weight")
}
