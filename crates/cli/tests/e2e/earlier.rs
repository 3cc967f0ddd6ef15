//! A service takes over the database of an earlier version: calls, texts, keys, history and runs.

use crate::deployed::{LOOPBACK, succeeded};
use crate::support::{Service, repository};
use serde_json::{Value, json};
use tempfile::TempDir;
use vastrelay_store::Store;

/// A key of the old database that may manage.
const MANAGES: &str = "vr-dc5a4536-4cb51b3bea164ffd1ff897d6da94d37f2236815180cbd965";
/// One that may call.
const CALLS: &str = "vr-a677119b-b267a54d49751a2b2f2d73e03f321ecbdd83e20ec3808bbd";

fn start() -> Service {
    let data = tempfile::tempdir().unwrap();
    let old = repository().join("crates/store/tests/before-endpoints.sqlite");
    std::fs::copy(old, data.path().join("vastrelay.sqlite")).unwrap();
    let words = [
        "--demo",
        "--listen",
        "127.0.0.1:0",
        "--require-key",
        "--records-age",
        "200years",
    ];
    let mut service = Service::start_in(data, &words);
    service.key = Some(MANAGES.into());
    service
}

#[tokio::test]
async fn old_calls_are_listed_and_shown_beside_new_ones() {
    let mut service = start();
    service.ask("Hello").await;
    let calls = service.get("/manage/requests?endpoint=pierdesk&most=100").await.1;
    let calls = calls.as_array().unwrap();
    assert_eq!(calls.len(), 23 + 1);
    let places: Vec<Value> = [&calls[0], &calls[1]]
        .map(|call| json!([call["operation"], call["release"], call["replica"], call["device"]]))
        .into();
    assert_eq!(json!(places), json!([["chat", 1, 1, "cpu"], ["chat", 0, 0, "cpu"]]));
    let (_, whole) = service.get("/manage/requests/plain-one").await;
    assert_eq!(whole["call"]["operation"], "completions");
    assert_eq!(
        whole["text"]["answer"],
        " in the has booked booked booked booked booked"
    );
    let shown = service.client(&["request", "show", "plain-one"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("completions to pierdesk by old desk"), "{shown}");
    service.key = Some(CALLS.into());
    assert!(service.ask("Hello").await.contains("passenger desk"));
    assert_eq!(service.get("/manage/requests").await.0, 403);
}

#[tokio::test]
async fn old_keys_runs_and_history_are_read() {
    let service = start();
    let keys = service.get("/manage/keys").await.1;
    let states: Vec<Value> = keys
        .as_array()
        .unwrap()
        .iter()
        .map(|key| key["state"].clone())
        .collect();
    assert_eq!(states, ["valid", "valid", "revoked"]);
    let runs = service.get("/manage/runs?name=before").await.1;
    let (id, before) = (runs[0]["id"].as_str().unwrap(), &runs[0]["run"]["setup"]["before"]);
    assert_eq!(
        (&before["occupancy"]["lanes"], &before["replicas"][0]["cores"]),
        (&json!(16), &json!(1))
    );
    let shown = service.client(&["load", "show", "before"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("limited by load"), "{shown}");
    let compared = service.get(&format!("/manage/comparison?a={id}&b={id}")).await.1;
    assert_eq!(compared["figures"][0]["ratio"], 1.0);
    let new = service.client_json(&["load", "run", "--users", "2", "--count", "8", "--name", "after"]);
    assert_eq!(new["done"], 8);
    let both = service.client_json(&["load", "compare", "before", "after"]);
    let differences = both["differences"].as_array().unwrap();
    assert!(
        differences
            .iter()
            .all(|one| !one["what"].as_str().unwrap().contains("replica ")),
        "{differences:?}"
    );
    let history = service
        .get("/manage/endpoints/pierdesk/history?seconds=4000000000")
        .await
        .1;
    assert_eq!(history["span"], 60);
}

#[test]
fn names_that_earlier_versions_took_and_that_cannot_be_addressed_get_a_number() {
    let model = repository().join("demo/models/pierdesk-1").display().to_string();
    let service = Service::start_in(TempDir::new().unwrap(), &LOOPBACK);
    for name in ["team/desk", "team/log-1"] {
        succeeded(&service, &["endpoint", "deploy", &format!("{name}={model}")]);
    }
    service.signal("TERM");
    let data = service.ended();
    let store = Store::open_beside(data.path()).unwrap();
    store.rename_endpoint("team/desk", "team/log").unwrap();
    drop(store);
    let service = Service::start_in(data, &LOOPBACK);
    let shown = service.client_json(&["endpoint", "show", "team/log-2"]);
    assert_eq!(shown["state"], "ready", "{shown}");
    succeeded(&service, &["endpoint", "remove", "team/log-2"]);
}
