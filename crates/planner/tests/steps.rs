//! The time of a step on a simulated device, derived by hand from a config and a profile.

use std::path::Path;
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::{CostModel, CostRow, DeviceProfile, Hardware, Question, StepTimes, Typical};
use vastrelay_weights::precision::{KvPrecision, Precisions};
use vastrelay_weights::{Kind, ModelDescription, Precision};

const LAYERS: f64 = 32.0;
const WIDTH: f64 = 4_096.0;
const QUERIES: f64 = 32.0 * 128.0;
const KEYS: f64 = 8.0 * 128.0;
const MLP: f64 = 14_336.0;
const VOCABULARY: f64 = 32_000.0;
const EXPERTS: f64 = 8.0;
const USED: f64 = 2.0;
/// Bytes of a weight and of an activation.
const HALF: f64 = 2.0;

fn eight_experts() -> ModelDescription {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/shapes/eight-experts.json");
    ModelDescription::open(&path).unwrap()
}

fn device() -> DeviceProfile {
    let all = DeviceProfile::shipped();
    all.into_iter().find(|profile| profile.name == "sim-80g").unwrap()
}

const PRECISIONS: Precisions = Precisions {
    weights: Precision::AsStored,
    kv: KvPrecision::Bf16,
};

fn placement<'a>(model: &'a ModelDescription, split: usize) -> Placement<'a> {
    Placement {
        model,
        stored: &|_| Kind::Bf16,
        precisions: PRECISIONS,
        split,
        width: 16,
        step_budget: 512,
        context: 4_096,
    }
}

fn close(found: f64, wanted: f64) {
    assert!((found / wanted - 1.0).abs() < 1e-9, "{found} instead of {wanted}");
}

/// The slower of reading and computing.
fn slower(bytes: f64, operations: f64) -> f64 {
    let device = device();
    (bytes / device.bandwidth).max(operations / device.peak.bf16)
}

#[test]
fn a_step_reads_the_experts_that_its_tokens_touch() {
    let model = eight_experts();
    let cost = CostModel::new(&placement(&model, 1), &device());
    let attention = LAYERS * WIDTH * (QUERIES + 2.0 * KEYS + QUERIES);
    let router = LAYERS * WIDTH * EXPERTS;
    let expert = LAYERS * 3.0 * WIDTH * MLP;
    let traffic = LAYERS * (2.0 * (WIDTH + QUERIES) + 2.0 * (WIDTH + KEYS) + WIDTH + EXPERTS);
    for tokens in [1usize, 4, 512] {
        let rows = vec![CostRow::decode(0); tokens];
        let count = tokens as f64;
        let touched = EXPERTS * (1.0 - (1.0 - USED / EXPERTS).powf(count));
        let bytes = HALF * (attention + router + touched * expert + count * traffic);
        let operations = 2.0 * count * (attention + router + USED * expert);
        close(cost.step(&rows).matrices, slower(bytes, operations));
        let head = VOCABULARY * WIDTH;
        close(cost.step(&rows).head, slower(HALF * head, 2.0 * count * head));
    }
}

#[test]
fn attention_reads_each_sequence_once_and_pairs_each_token_with_those_before() {
    let model = eight_experts();
    let cost = CostModel::new(&placement(&model, 1), &device());
    let part = |start: usize, tokens: usize| CostRow {
        tokens,
        start,
        chooses: false,
    };
    for (start, tokens) in [(0, 1), (699, 1), (0, 512), (1_000, 300)] {
        let read = (start + tokens) as f64;
        let pairs = (start + 1..=start + tokens).map(|seen| seen as f64).sum::<f64>();
        let wanted = LAYERS * slower(read * 2.0 * KEYS * HALF, 4.0 * QUERIES * pairs);
        close(cost.step(&[part(start, tokens)]).attention, wanted);
    }
}

#[test]
fn devices_of_a_split_add_sums_up_around_a_ring() {
    let (model, device) = (eight_experts(), device());
    let cost = CostModel::new(&placement(&model, 4), &device);
    let rows = [CostRow::decode(0); 3];
    let bytes = 3.0 * WIDTH * HALF;
    let each = 2.0 * 0.75 * bytes / device.link.bandwidth + 6.0 * device.link.delay;
    close(cost.step(&rows).sums, 2.0 * LAYERS * each);
}

#[test]
fn a_row_of_the_workspace_holds_what_a_token_needs_in_a_layer() {
    let model = eight_experts();
    let mlp = EXPERTS + 3.0 * MLP * USED;
    let row = 4.0 * WIDTH + 2.0 * QUERIES + 2.0 * KEYS + mlp;
    assert_eq!(placement(&model, 1).workspace_row() as f64, row);
    let of_four = 4.0 * WIDTH + (2.0 * QUERIES + 2.0 * KEYS) / 4.0 + EXPERTS + 3.0 * MLP / 4.0 * USED + 2.0 * WIDTH;
    assert_eq!(placement(&model, 4).workspace_row() as f64, of_four);
}

#[test]
fn a_prompt_is_predicted_in_parts_and_only_the_last_chooses_a_token() {
    let (model, device) = (eight_experts(), device());
    let question = Question {
        model: &model,
        stored: &|_| Kind::Bf16,
        precisions: PRECISIONS,
        width: 1,
        step_budget: 512,
        context: 4_096,
        memory_share: 1.0,
        typical: Typical {
            prompt: 1_200,
            output: 10,
        },
        concurrency: Some(1),
    };
    let fitting = question.split(&device, 8).verdict.unwrap();
    let cost = device.cost(&placement(&model, 8));
    let part = |start: usize, tokens: usize, chooses: bool| {
        let row = CostRow { tokens, start, chooses };
        cost.step(&[row]).total()
    };
    close(
        fitting.predicted.ttft,
        part(0, 512, false) + part(512, 512, false) + part(1_024, 176, true),
    );
    let plan = fitting.plan;
    assert_eq!(plan.free(), plan.budget - plan.total());
    let heavier = plan.clone().with_weights(plan.weights + 1_000);
    assert_eq!(heavier.total(), plan.total() + 1_000);
}
