//! Prints what each precision costs: loss against the f32 of the same weights, and in how many places the most likely token
//! is the same.
//!
//!     precisions --weights PATH [--text FILE] [--calibrate FILE]
//!
//! Without texts, the demo's held-out follow-ups are scored, and rounding is calibrated on its held-out questions.

use anyhow::{Context, Result, bail};
use std::path::{Path, PathBuf};
use vastrelay_demo_grade::{demo_folder, read_set};
use vastrelay_engine::likelihood::{LossChange, agreement, loss};
use vastrelay_kernels::groups::Bits;
use vastrelay_planner::amounts::bytes;
use vastrelay_serving::models::build::{BuildRequest, make};
use vastrelay_serving::models::quality::{Quality, measure, tokens};
use vastrelay_serving::{KvPrecision, Precision};
use vastrelay_text::Message;

/// Characters of the text that are scored.
const MOST: usize = 24_000;

/// A precision, and by how much its loss may grow; where nothing is demanded it is only stated.
struct Trial {
    name: &'static str,
    weights: &'static str,
    group: usize,
    kv: KvPrecision,
    most: Option<f64>,
}

const fn trial(name: &'static str, weights: &'static str, group: usize, kv: KvPrecision, most: Option<f64>) -> Trial {
    Trial {
        name,
        weights,
        group,
        kv,
        most,
    }
}

const TRIALS: [Trial; 8] = [
    trial("as-stored", "as-stored", 0, KvPrecision::F32, Some(0.001)),
    trial("bf16", "bf16", 0, KvPrecision::F32, None),
    trial("int8, groups of 32", "int8", 32, KvPrecision::F32, Some(0.005)),
    trial("int4, groups of 32", "int4", 32, KvPrecision::F32, None),
    trial("int4, groups of 64", "int4", 64, KvPrecision::F32, None),
    trial("int4, groups of 128", "int4", 128, KvPrecision::F32, None),
    trial("as-stored, KV bf16", "as-stored", 0, KvPrecision::Bf16, None),
    trial("f32, KV int8", "f32", 0, KvPrecision::Int8, Some(0.003)),
];

fn main() -> Result<()> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let named = |option: &str| {
        let at = words.iter().position(|word| word == option)?;
        words.get(at + 1).map(PathBuf::from)
    };
    let Some(path) = named("--weights") else {
        bail!("precisions --weights PATH [--text FILE] [--calibrate FILE]");
    };
    let texts_of = |file: Option<PathBuf>, set: &str| match file {
        Some(file) => Ok(vec![
            std::fs::read_to_string(&file).with_context(|| format!("reading {}", file.display()))?,
        ]),
        None => held_out(&path, set),
    };
    let texts = texts_of(named("--text"), "follow-ups")?;
    let calibrating = texts_of(named("--calibrate"), "questions")?.concat();
    let texts = texts
        .iter()
        .map(|text| tokens(&path, text, MOST))
        .collect::<Result<Vec<Vec<u32>>, _>>()?;
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let run = |weights: Precision, kv| measure(&path, &texts, weights, kv, cores, |_| ());
    let reference = run(Precision::F32, KvPrecision::F32)?;
    let before = loss(&reference.logprobs);
    println!(
        "{}, {} tokens scored; f32: loss {before:.4} nats a token, weights {}\n",
        path.file_name().unwrap_or_default().to_string_lossy(),
        reference.logprobs.len(),
        bytes(reference.weight_bytes)
    );
    println!("| precision | weights | loss | against f32, 90 % interval | same top token | wanted |");
    println!("|---|---|---|---|---|---|");
    let mut good = true;
    for trial in &TRIALS {
        let weights = match trial.weights.parse().map_err(anyhow::Error::msg)? {
            Precision::Groups { bits, .. } => Precision::Groups {
                bits,
                group: trial.group,
            },
            precision => precision,
        };
        good &= tell(trial, &run(weights, trial.kv)?, &reference, before);
    }
    for group in [64, 128] {
        let folder = std::env::temp_dir().join(format!("vastrelay-precisions-{}-{group}", std::process::id()));
        let request = BuildRequest {
            source: path.clone(),
            out: folder.clone(),
            weights: Precision::Groups {
                bits: Bits::Four,
                group,
            },
            kv: KvPrecision::F32,
            calibrate: Some(("held-out".into(), calibrating.clone())),
            text: None,
            cores,
            memory: usize::MAX,
        };
        make(&request, |_| ())?;
        let quality = measure(&folder, &texts, Precision::AsStored, KvPrecision::F32, cores, |_| ());
        std::fs::remove_dir_all(&folder)?;
        let name = if group == 64 {
            "int4, groups of 64, calibrated"
        } else {
            "int4, groups of 128, calibrated"
        };
        tell(
            &trial(name, "int4", group, KvPrecision::F32, None),
            &quality?,
            &reference,
            before,
        );
    }
    if !good {
        bail!("a precision loses more than it may");
    }
    Ok(())
}

/// Prints a line of the table; returns whether no more is lost than may be.
fn tell(trial: &Trial, quality: &Quality, reference: &Quality, before: f64) -> bool {
    let after = loss(&quality.logprobs);
    let LossChange { mean, error } = LossChange::between(&reference.logprobs, &quality.logprobs);
    let (change, error) = (mean / before, error / before);
    let met = trial.most.is_none_or(|most| change.abs() <= most);
    let wanted = match trial.most {
        None => "stated".to_owned(),
        Some(most) => format!("within {:.1} %: {}", most * 100.0, if met { "met" } else { "MISSED" }),
    };
    println!(
        "| {} | {} | {after:.4} | {:+.3} ± {:.3} % | {:.1} % | {wanted} |",
        trial.name,
        bytes(quality.weight_bytes),
        change * 100.0,
        1.645 * error * 100.0,
        agreement(&quality.logprobs, &reference.logprobs) * 100.0
    );
    met
}

/// Returns the demo's held-out conversations as the model's template writes them.
fn held_out(path: &Path, set: &str) -> Result<Vec<String>> {
    let template = vastrelay_serving::Model::open(path)?.template;
    let items = read_set(&demo_folder(), set)?;
    let render = |mut messages: Vec<Message>, answer: String| -> Result<String> {
        messages.push(Message {
            role: "assistant".into(),
            content: answer,
        });
        match &template {
            Some(template) => Ok(template.render(&messages, false)?),
            None => Ok(messages.into_iter().map(|m| m.content + "\n").collect()),
        }
    };
    items
        .into_iter()
        .map(|item| render(item.messages, item.answer))
        .collect()
}
