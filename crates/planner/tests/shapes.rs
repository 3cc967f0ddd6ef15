//! The arithmetic equals what a script of its own derives from five configs; the large one fits as it should.

use serde_json::Value;
use std::path::{Path, PathBuf};
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::{DeviceProfile, Fitting, Question, Typical, WhyNot};
use vastrelay_weights::precision::{KvPrecision, Precisions};
use vastrelay_weights::{Declared, ModelDescription, Precision};

fn config(name: &str) -> PathBuf {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let demo = here.join("../../demo/shapes").join(name).join("config.json");
    let own = here.join("tests/shapes").join(format!("{name}.json"));
    if demo.is_file() { demo } else { own }
}

fn precision(words: &str) -> Precision {
    let (word, group) = words.split_once('/').unwrap_or((words, ""));
    Precision::of(word, group.parse().ok()).unwrap()
}

#[test]
fn weights_and_kv_of_five_shapes_are_those_of_an_independent_script() {
    let text = include_str!("shapes/expected.json");
    let expected: Value = serde_json::from_str(text).unwrap();
    let mut compared = 0;
    for (name, splits) in expected.as_object().unwrap() {
        let model = ModelDescription::open(&config(name)).unwrap();
        let declared = Declared::open(&config(name)).unwrap();
        let stored = |tensor: &str| declared.kind(tensor);
        for of_split in splits.as_array().unwrap() {
            let split = of_split["split"].as_u64().unwrap() as usize;
            assert!(model.check_split(split).is_ok(), "{name} over {split}");
            let placement = |weights, kv| Placement {
                model: &model,
                stored: &stored,
                precisions: Precisions { weights, kv },
                split,
                width: 16,
                step_budget: 512,
                context: model.context,
            };
            for (words, bytes) in of_split["weights"].as_object().unwrap() {
                let parts = placement(precision(words), KvPrecision::Bf16).weight_parts();
                assert_eq!(
                    Some(parts.total() as u64),
                    bytes.as_u64(),
                    "{name} {words} over {split}"
                );
                compared += 1;
            }
            for (word, bytes) in of_split["token"].as_object().unwrap() {
                let kv = KvPrecision::of(word).unwrap();
                let token = placement(Precision::Bf16, kv).token_bytes();
                assert_eq!(Some(token as u64), bytes.as_u64(), "{name} KV {word} over {split}");
                compared += 1;
            }
        }
    }
    assert!(compared > 150, "{compared}");
}

/// The large shape as it would be served, with some of it changed.
fn large<T>(change: impl Fn(&mut Question<'_>), answer: impl Fn(&Question<'_>) -> T) -> T {
    let path = config("lighthouse-70b");
    let model = ModelDescription::open(&path).unwrap();
    let declared = Declared::open(&path).unwrap();
    let mut question = Question {
        model: &model,
        stored: &|tensor| declared.kind(tensor),
        precisions: Precisions::default(),
        width: 16,
        step_budget: 512,
        context: 8_192,
        memory_share: 0.9,
        typical: Typical {
            prompt: 600,
            output: 200,
        },
        concurrency: None,
    };
    change(&mut question);
    answer(&question)
}

fn profile(name: &str) -> DeviceProfile {
    let all = DeviceProfile::shipped();
    all.into_iter().find(|profile| profile.name == name).unwrap()
}

#[test]
fn the_large_shape_fits_four_devices_but_neither_two_nor_three() {
    let device = profile("sim-48g");
    let why = |split| large(|_| (), |question| question.split(&device, split).verdict.err());
    assert!(matches!(why(2), Some(WhyNot::Memory(_))), "{:?}", why(2));
    let text = why(3).unwrap().to_string();
    assert!(text.contains("64 query heads") && text.contains("4"), "{text}");
    assert_eq!(why(4), None);
    let text = why(16).unwrap().to_string();
    assert_eq!(text, "there are 8 devices");
}

#[test]
fn what_is_given_up_frees_what_the_arithmetic_says() {
    let device = profile("sim-48g");
    let fitting = |change: &dyn Fn(&mut Question<'_>)| {
        large(change, |question| question.split(&device, 4).verdict.clone().unwrap())
    };
    let usual = fitting(&|_| ());
    let left = usual.plan.budget - usual.plan.weights - usual.plan.workspace - usual.plan.process;
    let full = |fitting: &Fitting| fitting.plan.full_sequences().in_limit();
    assert_eq!(full(&usual), left / usual.plan.sequence());
    // Memory holds as many at any width.
    let narrow = fitting(&|question| question.width = 1);
    assert!(full(&narrow) >= full(&usual) && full(&narrow) - full(&usual) <= 1);
    assert_eq!(
        (
            narrow.plan.full_sequences().at_once,
            narrow.plan.typical_sequences().at_once
        ),
        (1, 1)
    );
    let eight = fitting(&|question| question.precisions.kv = KvPrecision::Int8);
    let ratio = full(&eight) as f64 / full(&usual) as f64;
    assert!((1.8..2.0).contains(&ratio), "{ratio}");
    let short = fitting(&|question| question.context = 4_096);
    assert!(full(&short) >= 2 * full(&usual));
    let small = fitting(&|question| question.precisions.weights = Precision::of("int4", None).unwrap());
    assert!(small.plan.weights * 3 < usual.plan.weights, "embedding and head stay");
    assert!(full(&small) > full(&usual));
    assert!(small.predicted.itl < usual.predicted.itl / 2.0);
}

#[test]
fn what_has_to_fit_at_once_decides_and_the_cheapest_is_found() {
    let device = profile("sim-48g");
    let usual = large(
        |_| (),
        |question| {
            question
                .split(&device, 4)
                .verdict
                .clone()
                .unwrap()
                .plan
                .full_sequences()
                .in_limit()
        },
    );
    let asked = |wanted| {
        large(
            |question| question.concurrency = Some(wanted),
            |question| question.split(&device, 4).verdict.err(),
        )
    };
    assert_eq!(asked(usual), None);
    let text = asked(usual + 1).unwrap().to_string();
    assert!(
        text.contains(&usual.to_string()) && text.contains("8,192 tokens"),
        "{text}"
    );
    let profiles = DeviceProfile::shipped();
    let cheapest = large(
        |question| question.precisions.weights = Precision::of("int4", None).unwrap(),
        |question| {
            question
                .cheapest(&of_profiles(&profiles))
                .map(|(profile, split)| (profile.name().to_owned(), split))
        },
    );
    assert_eq!(cheapest, Some(("sim-24g".to_owned(), 4)));
}
