//! Does the profile that is measured of this machine's processor predict real steps?
//!
//! Measures the profile, then times steps of models that took no part in it, over a grid of rows and contexts, and prints how long each
//! took against what was predicted (aim: within 30 %). `cargo bench -p vastrelay-serving --bench cpu_profile`.

use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_planner::cpu::precision_of;
use vastrelay_planner::{CostRow, CpuCost, CpuSpeed, StepTimes};
use vastrelay_serving::measurement::{Load, TimedModel, measure};
use vastrelay_specimen::Stored;
use vastrelay_weights::StoredAs;
use vastrelay_weights::precision::Precisions;

/// Sequences, tokens of each, and tokens before them.
const GRID: [(usize, usize, usize); 12] = [
    (1, 1, 32),
    (1, 1, 512),
    (1, 1, 1_024),
    (3, 1, 512),
    (8, 1, 128),
    (16, 1, 32),
    (16, 1, 512),
    (16, 1, 1_024),
    (32, 1, 256),
    (1, 48, 0),
    (1, 200, 0),
    (1, 256, 512),
];

/// Times that steps are timed at most.
const TRIES: usize = 3;

fn main() {
    let isa = Isa::detect();
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let cores = cores.saturating_sub(1).max(1);
    let begun = std::time::Instant::now();
    let speed = measure(isa, cores, &mut |_| {}).expect("there is room for the models");
    println!("the profile took {:.1} s to measure", begun.elapsed().as_secs_f64());
    let mut all = Vec::new();
    for (name, path, _folder) in subjects() {
        for kind in ["f32", "bf16", "int8", "int4"] {
            let load = Load {
                isa,
                cores,
                weights: precision_of(kind),
                kv: KvPrecision::default(),
                sequences: 32,
                context: 1_280,
                step: 256,
            };
            all.extend(compare(&name, &path, kind, load, &speed));
        }
    }
    all.sort_by(f64::total_cmp);
    let within = all.iter().filter(|ratio| (0.7..=1.3).contains(*ratio)).count();
    println!(
        "{within} of {} within 30 %; real ÷ predicted from {:.2} to {:.2}, median {:.2}",
        all.len(),
        all[0],
        all[all.len() - 1],
        all[all.len() / 2]
    );
}

fn compare(name: &str, path: &Path, kind: &str, load: Load, speed: &CpuSpeed) -> Vec<f64> {
    let mut model = TimedModel::load(path, load).expect("it loads");
    let stored = StoredAs::open(path).expect("it is there");
    let precisions = Precisions {
        weights: load.weights,
        kv: load.kv,
    };
    let cost = CpuCost::new(
        &model.description.clone(),
        &|tensor| stored.kind(tensor),
        precisions,
        speed,
    );
    let mut ratios = Vec::new();
    for (sequences, tokens, start) in GRID {
        let row = CostRow {
            tokens,
            start,
            chooses: true,
        };
        let predicted = cost.step(&vec![row; sequences]);
        let mut real = f64::INFINITY;
        // What takes too long is timed again: the host may have taken the core.
        for _ in 0..TRIES {
            real = real.min(model.time(sequences, tokens, start).seconds);
            if real <= 1.3 * predicted.total() {
                break;
            }
        }
        let ratio = real / predicted.total();
        let mark = if (0.7..=1.3).contains(&ratio) { ' ' } else { '!' };
        println!(
            "{mark} {name:<10} {kind:<5} {sequences:>2} × {tokens:>3} after {start:>4}: {:>8.3} ms, predicted {:>8.3} ms, {ratio:.2}",
            real * 1e3,
            predicted.total() * 1e3
        );
        ratios.push(ratio);
    }
    ratios
}

/// The demo's model, and generated ones in other shapes.
fn subjects() -> Vec<(String, PathBuf, Option<tempfile::TempDir>)> {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1");
    let mut all = vec![("pierdesk".to_owned(), demo, None)];
    for (name, config) in [
        ("135M", config(576, 30, 9, 3, 1_536, 49_152)),
        ("odd", config(320, 11, 5, 5, 1_000, 9_000)),
    ] {
        let folder = tempfile::tempdir().expect("a folder");
        vastrelay_specimen::write(folder.path(), &config, Stored::Bf16).expect("it can be written");
        all.push((name.to_owned(), folder.path().to_owned(), Some(folder)));
    }
    all
}

fn config(width: usize, layers: usize, heads: usize, kv_heads: usize, mlp_width: usize, vocabulary: usize) -> Value {
    json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": vocabulary, "hidden_size": width, "intermediate_size": mlp_width,
        "num_hidden_layers": layers, "num_attention_heads": heads, "num_key_value_heads": kv_heads,
        "rms_norm_eps": 1e-5, "max_position_embeddings": 4_096, "tie_word_embeddings": true
    })
}
