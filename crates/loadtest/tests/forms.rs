//! Runs of earlier forms are read as if they were of today's.

use serde_json::{Value, json};
use vastrelay_loadtest::Run;
use vastrelay_loadtest::compare::compare;
use vastrelay_loadtest::run::{FORM, current};

const FIRST: &str = include_str!("form-1.json");

#[test]
fn a_run_of_the_first_form_has_an_endpoint_with_one_replica() {
    let run = Run::read(FIRST).unwrap();
    assert_eq!(run.form, FORM);
    assert_eq!(run.requests.len(), 4);
    let (before, after) = (run.setup.before.clone().unwrap(), run.setup.after.clone().unwrap());
    assert_eq!(
        (before.name.as_str(), before.device.as_str(), before.simulated),
        ("pierdesk", "cpu", false)
    );
    assert_eq!(
        (before.precision.weights.as_str(), before.precision.group),
        ("int4", Some(64))
    );
    assert_eq!((before.precision.kv.as_str(), before.context), ("bf16", 2048));
    assert_eq!((before.occupancy.lanes, before.occupancy.pages), (16, 4096));
    assert_eq!(after.totals.ended, 165);
    let replica = &after.replicas[0];
    assert_eq!((replica.width, replica.totals.ended), (16, 165));
    assert_eq!(replica.memory.reserved, 4_528_896 + 67_108_864 + 5_013_504);
    // What is written is of today's form, and reads the same.
    let again = Run::read(&serde_json::to_string(&run).unwrap()).unwrap();
    assert_eq!(
        serde_json::to_value(&again).unwrap(),
        serde_json::to_value(&run).unwrap()
    );
}

#[test]
fn runs_of_both_forms_are_compared_setting_by_setting() {
    let old = Run::read(FIRST).unwrap();
    let mut new = old.clone();
    let endpoint = new.setup.before.as_mut().unwrap();
    endpoint.release = 3;
    endpoint.simulated = true;
    endpoint.occupancy.queue_depth = 7;
    endpoint.replicas[0].width = 32;
    endpoint.replicas[0].incarnation = 9;
    let comparison = compare(&old, &new);
    let differs: Vec<&str> = comparison.differences.iter().map(|d| d.what.as_str()).collect();
    assert_eq!(differs, ["service.replicas.1.width", "service.simulated"]);
    assert!(
        comparison
            .warnings
            .iter()
            .any(|warning| warning.contains("simulated device")),
        "{:?}",
        comparison.warnings
    );
}

#[test]
fn what_is_no_run_or_one_of_a_later_form_is_refused() {
    let mut later: Value = serde_json::from_str(FIRST).unwrap();
    later["form"] = json!(FORM + 1);
    let error = current(later).unwrap_err();
    assert!(error.contains("forms up to 2"), "{error}");
    assert!(Run::read("{}").is_err() && Run::read(r#"{"form": 1}"#).is_err());
    assert!(current(json!([])).is_err());
}
