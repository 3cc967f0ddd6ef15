//! The engine against an independent forward pass (`demo/reference/forward.py`).

use crate::support::{Setup, demo, engine, executor, fixture, greedy, run};
use serde_json::Value;
use std::path::Path;
use std::sync::Arc;
use vastrelay_engine::Executor;
use vastrelay_engine::executor::{BatchRow, RowResult, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::sampling::{Choice, Sampling};
use vastrelay_kernels::Isa;
use vastrelay_specimen::Stored;
use vastrelay_weights::ModelDescription;

/// Largest difference between a logit of ours and one of the reference. Splits keep to it too, though their sums over heads and inner
/// widths are added up in parts.
const TOLERANCE: f32 = 2e-3;

fn ids(value: &Value) -> Vec<u32> {
    value
        .as_array()
        .unwrap()
        .iter()
        .map(|id| id.as_u64().unwrap() as u32)
        .collect()
}

fn step(executor: &mut dyn Executor, rows: Vec<BatchRow>) -> Vec<RowResult> {
    let batch = StepBatch {
        copies: Vec::new(),
        rows,
    };
    run_step(executor, batch).unwrap().rows
}

fn logits_row(tokens: &[u32]) -> BatchRow {
    BatchRow {
        tokens: tokens.into(),
        drafts: 0,
        start: 0,
        // Mixed models have a list for each kind of layer; others look at the first one.
        slot: 0,
        tables: TableChange::all(vec![(0..16).collect(); 2]),
        whole: None,
        want: Want::Logits,
        logprobs: None,
    }
}

/// Computes the logits after a prompt that is read in chunks of seven, while another sequence is in the batch.
fn in_chunks_beside_another(executor: &mut dyn Executor, prompt: &[u32]) -> Vec<f32> {
    let mut logits = Vec::new();
    for (number, chunk) in prompt.chunks(7).enumerate() {
        let row = BatchRow {
            start: number * 7,
            slot: 1,
            tables: TableChange::all(vec![(16..32).collect(); 2]),
            ..logits_row(chunk)
        };
        logits = step(executor, vec![logits_row(&[5, 4, 3]), row]).remove(1).logits;
    }
    logits
}

/// Compares logits after each prompt, whole and in chunks.
fn compare_logits(folder: &Path, fixture: &Value, setup: Setup) {
    let (isa, split) = (setup.isa, setup.split);
    let stride = fixture["stride"].as_u64().unwrap() as usize;
    let (mut executor, ..) = executor(folder, setup);
    for item in fixture["items"].as_array().unwrap() {
        let prompt = ids(&item["prompt"]);
        let whole = step(&mut executor, vec![logits_row(&prompt)]).remove(0).logits;
        let wanted = item["logits"].as_array().unwrap();
        assert_eq!(whole.len().div_ceil(stride), wanted.len());
        for (ours, wanted) in whole.iter().step_by(stride).zip(wanted) {
            let difference = (ours - wanted.as_f64().unwrap() as f32).abs();
            assert!(difference < TOLERANCE, "{isa:?}, split {split}: {ours} for {wanted}");
        }
        assert_eq!(
            in_chunks_beside_another(&mut executor, &prompt),
            whole,
            "{isa:?}, split {split}"
        );
    }
}

/// Compares logits on each instruction set and with each number of shards, and greedy tokens through the whole engine.
async fn compare(folder: &Path, fixture: &Value) {
    let setup = Setup {
        cores: 2,
        ..Setup::default()
    };
    for isa in Isa::available() {
        compare_logits(folder, fixture, Setup { isa, ..setup });
    }
    let description = ModelDescription::open(folder).unwrap();
    let splits = description.splits();
    assert!(splits.contains(&2) || description.heads % 2 == 1, "{splits:?}");
    for split in &splits[1..] {
        compare_logits(folder, fixture, Setup { split: *split, ..setup });
    }
    for split in splits.into_iter().take(2) {
        let engine = engine(folder, Setup { split, ..setup });
        for item in fixture["items"].as_array().unwrap() {
            let (completion, _) = run(&engine, greedy(ids(&item["prompt"]), 32)).await;
            assert_eq!(completion.ids, ids(&item["greedy"]), "split {split}");
        }
    }
}

/// The models that are compared below, with what each of them shows; the README's table is made of this.
const PROVEN: [(&str, &str); 13] = [
    ("pierdesk-1", "the demo model"),
    ("wide", "an untied head, biases, stretched positions (llama3)"),
    ("odd", "an odd head size, bf16, YaRN"),
    ("windowed", "a window in every layer"),
    ("biased", "biases of queries, keys and values"),
    ("later", "windows in later layers"),
    ("normed", "heads are normed"),
    ("capped", "soft caps, norms after, windows in turns"),
    (
        "patterned",
        "a pattern of windows with positions of their own, linear stretching",
    ),
    (
        "fused",
        "fused projections, a divisor for each frequency (longrope), windows",
    ),
    ("multiplied", "multipliers of embeddings, residuals, scores and logits"),
    ("experts", "experts in place of the MLP"),
    ("sparse", "experts in some layers, heads are normed"),
];

#[test]
fn the_readme_tells_what_is_proven_here() {
    let mut rows: Vec<(String, Vec<&str>)> = Vec::new();
    for (name, shows) in PROVEN {
        let architecture = fixture(name)["config"]["architectures"][0].as_str().unwrap().to_owned();
        match rows.iter_mut().find(|(known, _)| *known == architecture) {
            Some((_, all)) => all.push(shows),
            None => rows.push((architecture, vec![shows])),
        }
    }
    let known: Vec<&str> = vastrelay_weights::description::architectures().collect();
    assert_eq!(known.len(), rows.len(), "every family is compared: {known:?}");
    let mut table = "| architecture | in GGUF | compared with the reference |\n|---|---|---|\n".to_owned();
    for (architecture, shows) in rows {
        let gguf = vastrelay_weights::gguf::family_of(&architecture).expect("every family is in GGUF files");
        table += &format!("| `{architecture}` | `{gguf}` | {} |\n", shows.join("; "));
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../README.md");
    let readme = std::fs::read_to_string(&path).unwrap();
    let (before, rest) = readme.split_once("<!-- families -->\n").unwrap();
    let (_, after) = rest.split_once("<!-- end -->").unwrap();
    let wanted = format!("{before}<!-- families -->\n{table}<!-- end -->{after}");
    if std::env::var_os("VASTRELAY_WRITE_README").is_some() {
        std::fs::write(&path, &wanted).unwrap();
    }
    assert!(
        readme == wanted,
        "README.md lacks what is proven; VASTRELAY_WRITE_README=1 writes it:\n{table}"
    );
}

async fn compare_specimen(name: &str, stored: Stored) {
    assert!(
        PROVEN.iter().any(|(proven, _)| *proven == name),
        "{name} is not in the table"
    );
    let fixture = fixture(name);
    let folder = tempfile::tempdir().unwrap();
    vastrelay_specimen::write(folder.path(), &fixture["config"], stored).unwrap();
    compare(folder.path(), &fixture).await;
}

#[tokio::test]
async fn the_demo_model_equals_the_reference() {
    compare(&demo(), &fixture("pierdesk-1")).await;
}

#[tokio::test]
async fn a_large_vocabulary_with_an_untied_head_biases_and_stretched_positions_equals_the_reference() {
    compare_specimen("wide", Stored::F32).await;
}

#[tokio::test]
async fn an_odd_head_size_in_bf16_equals_the_reference() {
    compare_specimen("odd", Stored::Bf16).await;
}

#[tokio::test]
async fn biases_of_queries_keys_and_values_alone_equal_the_reference() {
    compare_specimen("biased", Stored::F32).await;
}

#[tokio::test]
async fn heads_that_are_normed_equal_the_reference() {
    compare_specimen("normed", Stored::F32).await;
}

#[tokio::test]
async fn layers_that_see_only_the_last_tokens_equal_the_reference() {
    compare_specimen("windowed", Stored::F32).await;
    compare_specimen("later", Stored::F32).await;
}

/// Runs eight sequences at once in so few pages that windows have to give back theirs, and each alone where there is room for all.
async fn compare_in_few_pages(name: &str, tight: Setup) {
    let folder = tempfile::tempdir().unwrap();
    vastrelay_specimen::write(folder.path(), &fixture(name)["config"], Stored::F32).unwrap();
    let prompt = |number: u32| {
        (0..20)
            .map(|place| (number * 37 + place * 11) % 300)
            .collect::<Vec<u32>>()
    };
    let roomy = engine(folder.path(), Setup::default());
    let tight = engine(folder.path(), tight);
    let together = (0..8).map(|number| run(&tight, greedy(prompt(number), 180)));
    let together = futures_util::future::join_all(together).await;
    for (number, (answer, _)) in together.into_iter().enumerate() {
        let (alone, _) = run(&roomy, greedy(prompt(number as u32), 180)).await;
        assert_eq!(answer, alone, "{name}");
    }
}

#[tokio::test]
async fn pages_that_windows_give_back_change_no_answer() {
    // Eight sequences of 200 tokens would need 104 pages if they kept them.
    let tight = Setup {
        pages: 24,
        ..Setup::default()
    };
    compare_in_few_pages("windowed", tight).await;
    for name in ["later", "capped", "patterned"] {
        let tight = Setup {
            pages: 104,
            near_pages: 24,
            ..Setup::default()
        };
        compare_in_few_pages(name, tight).await;
    }
}

#[tokio::test]
async fn soft_caps_norms_after_and_windows_in_turns_equal_the_reference() {
    compare_specimen("capped", Stored::F32).await;
}

#[tokio::test]
async fn a_pattern_of_windows_with_positions_of_their_own_equals_the_reference() {
    compare_specimen("patterned", Stored::F32).await;
}

#[tokio::test]
async fn fused_projections_and_a_divisor_for_each_frequency_equal_the_reference() {
    compare_specimen("fused", Stored::F32).await;
}

#[tokio::test]
async fn multipliers_of_embeddings_residuals_scores_and_logits_equal_the_reference() {
    compare_specimen("multiplied", Stored::F32).await;
}

#[tokio::test]
async fn experts_equal_the_reference() {
    compare_specimen("experts", Stored::F32).await;
    compare_specimen("sparse", Stored::F32).await;
}

/// The tokens that a greedy row chooses with three drafts behind the demo model's first prompt.
fn chosen_with_drafts(drafts: &[u32; 3], end_ids: &[u32], may_end_from: u64) -> Vec<u32> {
    let fixture = fixture("pierdesk-1");
    let prompt = ids(&fixture["items"][0]["prompt"]);
    let (mut executor, ..) = executor(&demo(), Setup::default());
    let sampling = Sampling {
        temperature: 0.0,
        ..Sampling::default()
    };
    let choice = Choice {
        sampling: sampling.into(),
        completion: 0,
        position: 0,
        seen: Arc::default(),
        end_ids: end_ids.into(),
        may_end_from,
        top: None,
    };
    let row = BatchRow {
        tokens: [prompt.as_slice(), drafts].concat().into(),
        drafts: 3,
        want: Want::Token(choice),
        logprobs: None,
        ..logits_row(&[])
    };
    let chosen = step(&mut executor, vec![row]).remove(0).chosen;
    chosen.iter().map(|chosen| chosen.id).collect()
}

/// The first greedy tokens of the demo model behind that prompt.
fn greedy_tokens() -> Vec<u32> {
    ids(&fixture("pierdesk-1")["items"][0]["greedy"])
}

#[test]
fn an_end_token_is_banned_for_drafted_tokens_as_long_as_for_others() {
    let wanted = greedy_tokens();
    let drafts = [wanted[0], wanted[1], wanted[2]];
    assert!(!wanted[..2].contains(&wanted[2]));
    // The third token is an end token that may come from the third place on.
    assert_eq!(chosen_with_drafts(&drafts, &wanted[2..3], 2), wanted[..4]);
    // From the fourth place on it comes too early.
    let chosen = chosen_with_drafts(&drafts, &wanted[2..3], 3);
    assert_eq!((&chosen[..2], chosen.len()), (&wanted[..2], 3));
    assert_ne!(chosen[2], wanted[2]);
}

#[test]
fn drafts_are_accepted_as_far_as_they_are_what_would_have_been_chosen() {
    let wanted = greedy_tokens();
    for right in 0..4 {
        let mut drafts = [wanted[0], wanted[1], wanted[2]];
        if right < 3 {
            drafts[right] = (drafts[right] + 1) % 2048;
        }
        let chosen = chosen_with_drafts(&drafts, &[], 0);
        assert_eq!(chosen, wanted[..right + 1], "{right} right drafts");
    }
}
