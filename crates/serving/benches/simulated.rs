//! Do simulated devices take their time, and do two models on them take turns?
//!
//! Prints the median time of a step against what the cost model predicts for it (aim: within 2 %), and how many tokens a second each of two
//! busy models on the same devices gets, of what one gets alone (aim: half). `cargo bench -p vastrelay-serving --bench simulated`.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use vastrelay_engine::Event;
use vastrelay_engine::request::GenerationRequest;
use vastrelay_kernels::Isa;
use vastrelay_planner::{CostModel, CostRow, DeviceProfile, Question, StepTimes, Typical};
use vastrelay_serving::{CoreRequest, Device, Model, Precision, Replica, ReplicaSettings};
use vastrelay_weights::StoredAs;
use vastrelay_weights::precision::Precisions;

const SPLIT: usize = 4;
const PROMPT: usize = 64;
const OUTPUT: usize = 300;
/// Busy for so long.
const BUSY: Duration = Duration::from_secs(10);

fn main() {
    let path = shape();
    let model = Model::open(&path).expect("the demo's shape");
    let turns = tempfile::tempdir().expect("a folder for turns");
    let settings = settings(Device::simulated(profile(), turns.path()));
    let alone = Replica::load(&model, &path, &settings).expect("it fits");
    let runtime = Runtime::new().expect("a runtime");
    let gaps = runtime.block_on(gaps(&alone));
    let (median, predicted) = (gaps[gaps.len() / 2], predicted(&model, &path, &settings));
    println!(
        "a step of one sequence: {:.2} ms, predicted {:.2} ms, ratio {:.4} (aim 0.98 to 1.02)",
        median * 1e3,
        predicted * 1e3,
        median / predicted
    );
    let rate_alone = runtime.block_on(rate(&alone));
    let beside = Replica::load(&model, &path, &settings).expect("both fit");
    let (first, second) = runtime.block_on(async { tokio::join!(rate(&alone), rate(&beside)) });
    println!(
        "tokens/s alone {rate_alone:.1}; both busy {first:.1} and {second:.1}: {:.3} and {:.3} of that (aim 0.5)",
        first / rate_alone,
        second / rate_alone
    );
}

fn shape() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/shapes/lighthouse-70b")
}

/// As many devices as one of them needs, so that both are on the same.
fn profile() -> DeviceProfile {
    let shipped = DeviceProfile::shipped();
    let mut profile = shipped.into_iter().nth(1).expect("three ship");
    profile.count = SPLIT;
    profile
}

fn settings(device: Device) -> ReplicaSettings {
    ReplicaSettings {
        width: 16,
        step_budget: 512,
        context: Some(2_048),
        queue_depth: 64,
        queue_wait: None,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: CoreRequest::Free { least: 1, most: 1 },
        split: SPLIT,
        memory_share: 0.45,
        pages: None,
        typical: None,
        device,
        weights: Precision::of("int4", None).expect("a precision"),
        kv: None,
    }
}

fn request(seed: u64) -> GenerationRequest {
    let mut request = GenerationRequest::new(vec![300; PROMPT], OUTPUT);
    request.least_tokens = OUTPUT;
    request.sampling.seed = seed;
    request
}

/// Returns the gaps between the tokens of one sequence, sorted.
async fn gaps(replica: &Replica) -> Vec<f64> {
    let mut stream = replica.generate.submit(vec![request(1)]).await.expect("it is taken");
    let (mut gaps, mut before) = (Vec::new(), None);
    while let Some(event) = stream.next().await {
        if let Event::Piece(_) = event {
            let now = Instant::now();
            gaps.extend(
                before
                    .replace(now)
                    .map(|before| now.duration_since(before).as_secs_f64()),
            );
        }
    }
    gaps.sort_by(f64::total_cmp);
    gaps
}

fn predicted(model: &Model, path: &Path, settings: &ReplicaSettings) -> f64 {
    let stored = StoredAs::open(path).expect("a config");
    let kind = |tensor: &str| stored.kind(tensor);
    let question = Question {
        model: &model.description,
        stored: &kind,
        precisions: Precisions {
            weights: settings.weights,
            ..Precisions::default()
        },
        width: settings.width,
        step_budget: settings.step_budget,
        context: 2_048,
        memory_share: settings.memory_share,
        typical: Typical {
            prompt: PROMPT,
            output: OUTPUT,
        },
        concurrency: None,
    };
    let cost = CostModel::new(&question.placement(SPLIT), &profile());
    cost.step(&[CostRow::decode(PROMPT + OUTPUT / 2)]).total()
}

/// Returns how many tokens a second a replica gives while it always has something to do.
async fn rate(replica: &Replica) -> f64 {
    let begun = Instant::now();
    let (mut tokens, mut seed) = (0usize, 2);
    while begun.elapsed() < BUSY {
        seed += 1;
        let mut stream = replica.generate.submit(vec![request(seed)]).await.expect("it is taken");
        while let Some(event) = stream.next().await {
            tokens += usize::from(matches!(event, Event::Piece(_)));
            if begun.elapsed() >= BUSY {
                break;
            }
        }
    }
    tokens as f64 / begun.elapsed().as_secs_f64()
}
