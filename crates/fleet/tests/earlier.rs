//! What an earlier version wrote is read as it was meant.

use std::time::Duration;
use vastrelay_fleet::answering::{Defaults, NamedToken};
use vastrelay_fleet::cores::CoreRequest;
use vastrelay_fleet::{Answering, CoreShare, Mode, Settings, Spec, Upkeep};
use vastrelay_planner::Typical;
use vastrelay_weights::Precision;
use vastrelay_weights::precision::KvPrecision;

#[test]
fn a_spec_of_an_earlier_version_means_the_same() {
    let spec = Spec::parse(include_str!("spec-1.toml")).unwrap();
    let seconds = |seconds| Some(Duration::from_secs(seconds));
    assert_eq!(spec.model, "shapes/lighthouse-70b");
    assert_eq!(
        spec.settings,
        Settings {
            weights: Precision::of("int4", Some(64)).ok(),
            kv: Some(KvPrecision::Int8),
            devices: Some(vec!["sim-48g".into(), "own.toml".into()]),
            split: Some(4),
            cores: None,
            memory_share: Some(0.5),
            pages: Some(1_000),
            width: Some(64),
            step_budget: Some(512),
            prefill_chunk: Some(128),
            context: Some(8_192),
            typical: Some(Typical {
                prompt: 600,
                output: 200,
            }),
            queue_depth: Some(40),
            queue_wait: seconds(30),
        }
    );
    assert_eq!(
        spec.answering,
        Answering {
            mode: Some(Mode::Chat),
            template: Some("desk.jinja".into()),
            defaults: Defaults {
                temperature: Some(0.5),
                max_tokens: Some(200),
                ..Defaults::default()
            },
            stop_tokens: vec![NamedToken::Text("<|pause|>".into()), NamedToken::Id(7)],
            keeps_texts: Some(false),
            longest_wait: seconds(20),
            longest_answer: seconds(120),
        }
    );
    let upkeep = Upkeep {
        longest_start: seconds(300),
        idle_after: seconds(600),
        stop_after: seconds(12 * 3600),
    };
    assert_eq!(spec.upkeep, upkeep);
}

#[test]
fn a_fraction_of_a_core_means_the_same() {
    let spec = Spec::parse(include_str!("spec-2.toml")).unwrap();
    let quarter = CoreShare::of(0.25).unwrap();
    assert_eq!(spec.settings.cores, Some(CoreRequest::Named(quarter)));
}
