//! The workspace that is planned holds what a step needs.

use crate::support::demo;
use vastrelay_engine::CpuExecutor;
use vastrelay_engine::cpu::StepSize;
use vastrelay_weights::ModelDescription;

fn planned(size: StepSize) -> usize {
    CpuExecutor::workspace_bytes(&ModelDescription::open(&demo()).unwrap(), size)
}

const SMALL: StepSize = StepSize {
    split: 1,
    tokens: 64,
    width: 64,
    context: 64,
    cores: 1,
};

#[test]
fn each_row_of_a_full_batch_has_logits_also_at_a_step_budget_that_is_as_small_as_the_batch() {
    let vocabulary = ModelDescription::open(&demo()).unwrap().vocabulary;
    let narrow = StepSize { width: 32, ..SMALL };
    assert_eq!(planned(SMALL) - planned(narrow), 32 * vocabulary * size_of::<f32>());
}

#[test]
fn rows_are_laid_out_for_kernels_and_each_thread_has_buffers_to_choose_tokens() {
    let description = ModelDescription::open(&demo()).unwrap();
    let more = StepSize { tokens: 128, ..SMALL };
    // The rows of a token; the widest one is there twice.
    let row = 4 * description.width + 3 * description.mlp_width + description.mlp_width;
    assert!(planned(more) - planned(SMALL) >= 64 * row * size_of::<f32>());
    let threads = StepSize { cores: 3, ..SMALL };
    assert!(planned(threads) - planned(SMALL) >= 2 * description.vocabulary * size_of::<f64>());
}
