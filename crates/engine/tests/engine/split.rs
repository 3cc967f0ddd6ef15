//! Models that are divided over several shards.

use crate::support::{Setup, demo, executor, fixture};
use std::path::Path;
use vastrelay_engine::cpu::{BuildOrder, CpuSettings, Rounded, build};
use vastrelay_engine::executor::{BatchRow, ExecutorError, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::{CpuExecutor, Executor};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_kernels::groups::Bits;
use vastrelay_specimen::Stored;
use vastrelay_weights::{Build, Checkpoint, ModelDescription, Precision, Precisions};

fn logits(executor: &mut dyn Executor, pages: std::ops::Range<u32>) -> Result<Vec<f32>, ExecutorError> {
    let row = BatchRow {
        tokens: (0..40).map(|place| place * 7 % 200).collect(),
        drafts: 0,
        start: 0,
        slot: 0,
        tables: TableChange::all([pages.collect()]),
        whole: None,
        want: Want::Logits,
        logprobs: None,
    };
    let batch = StepBatch {
        copies: Vec::new(),
        rows: vec![row],
    };
    Ok(run_step(executor, batch)?.rows.remove(0).logits)
}

fn settings(folder: &Path, split: usize, weights: Precision) -> (Checkpoint, ModelDescription, CpuSettings) {
    let settings = CpuSettings {
        isa: Isa::detect(),
        cores: 2,
        spinning: Default::default(),
        split,
        context: 64,
        step_tokens: 64,
        width: 16,
        pages: vec![8],
        weights,
        kv: KvPrecision::F32,
    };
    (
        Checkpoint::open(folder).unwrap(),
        ModelDescription::open(folder).unwrap(),
        settings,
    )
}

#[test]
fn shards_take_together_what_the_whole_takes_and_what_they_copy() {
    let folder = tempfile::tempdir().unwrap();
    vastrelay_specimen::write(folder.path(), &fixture("wide")["config"], Stored::F32).unwrap();
    let (checkpoint, model, whole) = settings(folder.path(), 1, Precision::AsStored);
    let report = |split| {
        let settings = CpuSettings { split, ..whole.clone() };
        CpuExecutor::load(&checkpoint, &model, settings).unwrap().memory()
    };
    assert_eq!((model.heads, model.kv_heads), (4, 2));
    let (one, two, four) = (report(1), report(2), report(4));
    // Each key and value head is on one of two shards, and on two of four.
    assert_eq!((two.page, four.page), (one.page, 2 * one.page));
    for (split, report) in [(1, one), (2, two), (4, four)] {
        let foretold = CpuExecutor::weight_bytes(&|tensor| checkpoint.kind(tensor), &model, Precision::AsStored, split);
        let more = report.weights as f64 / foretold as f64;
        assert!(
            (0.99..1.1).contains(&more),
            "split {split}: {} for {foretold}",
            report.weights
        );
    }
    assert!(four.weights as f64 <= one.weights as f64 * 1.2, "{one:?} {four:?}");
}

#[test]
fn every_precision_is_split_from_checkpoints_and_from_builds() {
    let groups = |bits, group| Precision::Groups { bits, group };
    for (weights, most) in [
        (Precision::AsStored, 1e-3),
        (Precision::Bf16, 1e-3),
        // Activations are rounded in each shard's groups.
        (groups(Bits::Eight, 32), 1.0),
        (groups(Bits::Four, 32), 1.0),
        // Groups of 128 are cut apart.
        (groups(Bits::Four, 128), 1.5),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let (checkpoint, model, whole) = settings(&demo(), 1, weights);
        let order = BuildOrder {
            source: "pierdesk-1".into(),
            precisions: Precisions {
                weights,
                kv: KvPrecision::F32,
            },
            calibrated_on: None,
        };
        build(&checkpoint, &model, &order, &Rounded::new(), folder.path()).unwrap();
        let build = Build::open(folder.path()).unwrap();
        let one = logits(
            &mut CpuExecutor::load_build(&build, &model, whole.clone()).unwrap(),
            0..4,
        )
        .unwrap();
        for split in model.splits().into_iter().skip(1) {
            let settings = CpuSettings { split, ..whole.clone() };
            let built = logits(
                &mut CpuExecutor::load_build(&build, &model, settings.clone()).unwrap(),
                0..4,
            )
            .unwrap();
            let loaded = logits(&mut CpuExecutor::load(&checkpoint, &model, settings).unwrap(), 0..4).unwrap();
            for parts in [built, loaded] {
                let difference = parts.iter().zip(&one).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
                assert!(difference < most, "{weights:?} in {split}: {difference}");
            }
        }
    }
}

#[test]
fn a_split_that_does_not_divide_the_model_is_refused() {
    let (checkpoint, model, settings) = settings(&demo(), 3, Precision::AsStored);
    let error = CpuExecutor::load(&checkpoint, &model, settings)
        .err()
        .unwrap()
        .to_string();
    assert!(
        error.contains("a split of 3 does not divide") && error.contains("2 key and value heads"),
        "{error}"
    );
}

#[test]
fn a_step_that_fails_on_the_shards_is_an_error_and_nobody_waits_for_ever() {
    let (mut executor, ..) = executor(
        &demo(),
        Setup {
            split: 2,
            pages: 8,
            ..Setup::default()
        },
    );
    assert!(logits(&mut executor, 0..4).is_ok());
    let error = logits(&mut executor, 100..104).unwrap_err();
    assert!(!error.0.contains("another shard"), "{error}");
    assert!(logits(&mut executor, 0..4).is_err());
}
