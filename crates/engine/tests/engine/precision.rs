//! The precisions that execute, and builds of them.

use crate::support::{Setup, demo, executor, fixture};
use serde_json::Value;
use std::path::Path;
use vastrelay_engine::cpu::{BuildOrder, CpuSettings, Rounded, build, calibrate};
use vastrelay_engine::executor::{BatchRow, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::likelihood::{agreement, likelihoods, loss};
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{CpuExecutor, Executor};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_kernels::groups::Bits;
use vastrelay_text::Tokenizer;
use vastrelay_weights::{Build, Checkpoint, ModelDescription, Precision, Precisions};

const EIGHT: Precision = Precision::Groups {
    bits: Bits::Eight,
    group: 32,
};
const FOUR: Precision = Precision::Groups {
    bits: Bits::Four,
    group: 64,
};

fn prompt() -> Vec<u32> {
    let ids = &fixture("pierdesk-1")["items"][0]["prompt"];
    ids.as_array()
        .unwrap()
        .iter()
        .map(|id| id.as_u64().unwrap() as u32)
        .collect()
}

fn rows(executor: &mut dyn Executor, rows: Vec<BatchRow>) -> Vec<Vec<f32>> {
    let batch = StepBatch {
        copies: Vec::new(),
        rows,
    };
    let rows = run_step(executor, batch).unwrap().rows;
    rows.into_iter().map(|row| row.logits).collect()
}

fn row(tokens: &[u32], start: usize, first_page: u32) -> BatchRow {
    BatchRow {
        tokens: tokens.into(),
        drafts: 0,
        start,
        slot: first_page as usize / 16,
        tables: TableChange::all([(first_page..first_page + 16).collect()]),
        whole: None,
        want: Want::Logits,
        logprobs: None,
    }
}

fn logits(executor: &mut dyn Executor, tokens: &[u32]) -> Vec<f32> {
    rows(executor, vec![row(tokens, 0, 0)]).remove(0)
}

/// Texts of the demo's held-out questions and their answers.
fn texts() -> Vec<Vec<u32>> {
    let path = demo().join("../../held-out/questions.jsonl");
    let tokenizer = Tokenizer::open(&demo()).unwrap();
    let text = std::fs::read_to_string(path).unwrap();
    let line = |line: &str| {
        let item: Value = serde_json::from_str(line).unwrap();
        let question = item["messages"][0]["content"].as_str().unwrap();
        let text = format!(
            "<hail><passenger>{question}<over><desk>{}<over>",
            item["answer"].as_str().unwrap()
        );
        tokenizer.encode(&text, false).unwrap()
    };
    text.lines().take(48).map(line).collect()
}

fn logprobs(executor: &mut dyn Executor, texts: &[Vec<u32>]) -> Vec<TokenLogprobs> {
    likelihoods(executor, texts, 128, 1, |_| ()).unwrap()
}

fn settings(weights: Precision) -> CpuSettings {
    CpuSettings {
        isa: Isa::detect(),
        cores: 2,
        spinning: Default::default(),
        split: 1,
        context: 256,
        step_tokens: 256,
        width: 16,
        pages: vec![32],
        weights,
        kv: KvPrecision::F32,
    }
}

fn built(folder: &Path, weights: Precision, rounded: &Rounded) {
    let order = BuildOrder {
        source: "pierdesk-1".into(),
        precisions: Precisions {
            weights,
            kv: KvPrecision::Int8,
        },
        calibrated_on: None,
    };
    let description = ModelDescription::open(&demo()).unwrap();
    build(
        &Checkpoint::open(&demo()).unwrap(),
        &description,
        &order,
        rounded,
        folder,
    )
    .unwrap();
}

#[test]
fn every_precision_is_the_same_bits_in_any_company_and_loses_little() {
    let texts = texts();
    let (mut reference, ..) = executor(
        &demo(),
        Setup {
            weights: Precision::F32,
            ..Setup::default()
        },
    );
    let wanted = logprobs(&mut reference, &texts);
    for (weights, kv, most) in [
        (Precision::F32, KvPrecision::Bf16, 0.003),
        (Precision::F32, KvPrecision::Int8, 0.003),
        (Precision::Bf16, KvPrecision::F32, 0.001),
        (EIGHT, KvPrecision::F32, 0.005),
        (FOUR, KvPrecision::Int8, 0.05),
    ] {
        let mut seen: Option<Vec<f32>> = None;
        for (isa, cores) in Isa::available()
            .into_iter()
            .map(|isa| (isa, 1))
            .chain([(Isa::detect(), 2)])
        {
            let setup = Setup {
                isa,
                cores,
                weights,
                kv,
                ..Setup::default()
            };
            let (mut executor, ..) = executor(&demo(), setup);
            let prompt = prompt();
            let alone = logits(&mut executor, &prompt);
            let mut chunked = Vec::new();
            for (number, chunk) in prompt.chunks(3).enumerate() {
                let both = vec![row(&[9, 8, 7, 6], 0, 16), row(chunk, number * 3, 0)];
                chunked = rows(&mut executor, both).remove(1);
            }
            assert_eq!(alone, chunked, "{weights:?}, {kv:?}, {isa:?}: company changes it");
            assert_eq!(
                &alone,
                seen.get_or_insert(alone.clone()),
                "{weights:?}, {kv:?}, {isa:?}, {cores} cores"
            );
        }
        let setup = Setup {
            weights,
            kv,
            ..Setup::default()
        };
        let (mut executor, ..) = executor(&demo(), setup);
        let logprobs = logprobs(&mut executor, &texts);
        let change = loss(&logprobs) / loss(&wanted) - 1.0;
        assert!(change.abs() <= most, "{weights:?}, {kv:?}: loss changes by {change}");
        assert!(agreement(&logprobs, &wanted) > 0.9, "{weights:?}, {kv:?}");
    }
}

#[test]
fn scores_are_the_softmax_of_the_logits() {
    let (mut executor, ..) = executor(&demo(), Setup::default());
    let prompt = prompt();
    let logprobs = logprobs(&mut executor, std::slice::from_ref(&prompt));
    assert_eq!(logprobs.len(), prompt.len() - 1);
    let last = logits(&mut executor, &prompt[..prompt.len() - 1]);
    let total: f64 = last.iter().map(|logit| f64::from(*logit).exp()).sum();
    let wanted = f64::from(last[prompt[prompt.len() - 1] as usize]) - total.ln();
    let (found, alternatives) = logprobs.last().unwrap();
    assert!((f64::from(found.logprob) - wanted).abs() < 1e-4);
    let top = (0..last.len()).max_by(|a, b| last[*a].total_cmp(&last[*b])).unwrap();
    assert_eq!((found.id, alternatives[0].id), (prompt[prompt.len() - 1], top as u32));
}

#[test]
fn a_build_is_mapped_to_the_same_bits_and_made_the_same_twice() {
    for weights in [Precision::AsStored, Precision::F32, EIGHT, FOUR] {
        let (one, two) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        built(one.path(), weights, &Rounded::new());
        built(two.path(), weights, &Rounded::new());
        for file in ["build.json", "build.safetensors"] {
            let read = |folder: &Path| std::fs::read(folder.join(file)).unwrap();
            assert!(read(one.path()) == read(two.path()), "{file} of {weights:?}");
        }
        let file = std::fs::read(one.path().join("build.safetensors")).unwrap();
        let header = u64::from_le_bytes(file[..8].try_into().unwrap());
        assert_eq!((8 + header) % 64, 0, "tensors begin at a line of the cache");
        let description = ModelDescription::open(&demo()).unwrap();
        let build = Build::open(one.path()).unwrap();
        assert_eq!(
            build.facts.precisions,
            Precisions {
                weights,
                kv: KvPrecision::Int8
            }
        );
        let mut mapped = CpuExecutor::load_build(&build, &description, settings(weights)).unwrap();
        let checkpoint = Checkpoint::open(&demo()).unwrap();
        let mut loaded = CpuExecutor::load(&checkpoint, &description, settings(weights)).unwrap();
        assert_eq!(
            logits(&mut mapped, &prompt()),
            logits(&mut loaded, &prompt()),
            "{weights:?}"
        );
        assert_eq!(mapped.memory().weights, loaded.memory().weights);
    }
}

#[test]
fn a_build_that_was_changed_or_is_of_another_version_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    built(folder.path(), EIGHT, &Rounded::new());
    let (facts, tensors) = (
        folder.path().join("build.json"),
        folder.path().join("build.safetensors"),
    );
    let refusal = || Build::open(folder.path()).err().unwrap().to_string();
    let whole = std::fs::read(&tensors).unwrap();
    let mut changed = whole.clone();
    *changed.last_mut().unwrap() ^= 1;
    std::fs::write(&tensors, &changed).unwrap();
    assert!(refusal().contains("changed or cut short"));
    std::fs::write(&tensors, &whole[..whole.len() / 2]).unwrap();
    assert!(refusal().contains("changed or cut short"));
    std::fs::write(&tensors, &whole).unwrap();
    let text = std::fs::read_to_string(&facts).unwrap();
    std::fs::write(
        &facts,
        text.replace("\"version\": 3", "\"version\": 2")
            .replace("precisions", "weights"),
    )
    .unwrap();
    assert!(refusal().contains("this program reads version 3"));
    // A build of another shape than its config says.
    std::fs::write(&facts, &text).unwrap();
    let mut description = ModelDescription::open(&demo()).unwrap();
    description.mlp_width *= 2;
    let build = Build::open(folder.path()).unwrap();
    let error = CpuExecutor::load_build(&build, &description, settings(Precision::AsStored));
    assert!(error.err().unwrap().to_string().contains("has shape"));
}

#[test]
fn calibrated_rounding_comes_nearer_than_plain_rounding() {
    let texts = texts();
    let (seen, unseen) = texts.split_at(texts.len() / 2);
    let description = ModelDescription::open(&demo()).unwrap();
    let checkpoint = Checkpoint::open(&demo()).unwrap();
    let coarse = (Bits::Four, 128);
    let rounded = calibrate(
        &checkpoint,
        &description,
        seen,
        coarse,
        settings(Precision::AsStored),
        |_| (),
    )
    .unwrap();
    assert_eq!(rounded.len(), 7 * description.layers);
    let weights = Precision::Groups {
        bits: coarse.0,
        group: coarse.1,
    };
    let mut reference = CpuExecutor::load(&checkpoint, &description, settings(Precision::F32)).unwrap();
    let wanted = logprobs(&mut reference, unseen);
    let distance = |rounded: &Rounded| {
        let folder = tempfile::tempdir().unwrap();
        built(folder.path(), weights, rounded);
        let build = Build::open(folder.path()).unwrap();
        let mut executor = CpuExecutor::load_build(&build, &description, settings(weights)).unwrap();
        let logprobs = logprobs(&mut executor, unseen);
        let squares = logprobs
            .iter()
            .zip(&wanted)
            .map(|((one, _), (other, _))| (one.logprob - other.logprob).powi(2));
        squares.sum::<f32>()
    };
    let (plain, calibrated) = (distance(&Rounded::new()), distance(&rounded));
    assert!(calibrated < 0.7 * plain, "{calibrated} for {plain}");
}
