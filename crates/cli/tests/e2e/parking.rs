//! Endpoints that nobody calls give their memory back; the next call starts them again and is answered.

use crate::deployed::{LOOPBACK, asked, refused, small, spec, spec_of, states, succeeded, wait_for_state};
use crate::support::{Service, guarded};
use futures_util::future::join_all;
use serde_json::{Value, json};
use tempfile::TempDir;

/// Deploys the demo's model as `desk` with more settings.
fn deploy(service: &Service, files: &TempDir, rest: &str) {
    succeeded(
        service,
        &["endpoint", "deploy", &spec(files.path(), "desk", &small(rest))],
    );
}

/// Returns how many events of a kind there are.
fn count(service: &Service, what: &str) -> usize {
    let events = service.client_json(&["event", "list", "--what", what]);
    events.as_array().unwrap().len()
}

async fn without_workers(service: &Service) {
    while !service.workers().is_empty() {
        tokio::task::yield_now().await;
    }
}

#[tokio::test]
async fn an_idle_endpoint_is_parked_and_calls_that_come_together_start_it_once() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    deploy(&service, &files, "replicas.idle_after = \"300ms\"");
    let request = asked("desk", json!({"temperature": 0}));
    let (_, before) = service.post("/v1/chat/completions", &request).await;
    wait_for_state(&service, "desk", "parked").await;
    without_workers(&service).await;
    let listed = service.get("/v1/models").await.1;
    assert_eq!(listed["data"][0]["state"], "parked");
    assert_eq!(
        service.get("/health/ready").await.1,
        json!({"ready": true, "state": "ready"})
    );
    assert_eq!(service.get("/health/ready/desk").await.1["state"], "parked");
    assert_eq!(succeeded(&service, &["endpoint", "wait", "desk"]), "desk is parked\n");
    let shown = succeeded(&service, &["endpoint", "list"]);
    assert!(shown.contains("no calls for 0.3 s"), "{shown}");
    let calls = (0..8).map(|_| service.post("/v1/chat/completions", &request));
    for (status, answer) in join_all(calls).await {
        assert_eq!(status, 200, "{answer}");
        assert_eq!(answer["choices"], before["choices"]);
    }
    assert_eq!(count(&service, "unparked"), 1);
    assert_eq!(count(&service, "worker_ready"), 2);
    assert_eq!(count(&service, "worker_gone"), 0);
    // The tokenizer is away, too, and comes back for it.
    wait_for_state(&service, "desk", "parked").await;
    let counted = service
        .post("/text/count", &json!({"model": "desk", "text": "When?"}))
        .await;
    assert_eq!((counted.0, &counted.1["context"]), (200, &json!(2048)));
}

#[tokio::test]
async fn an_endpoint_is_not_parked_while_it_answers_and_stays_parked_over_a_restart() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    deploy(&service, &files, "replicas.idle_after = \"1ms\"");
    let long = asked("desk", json!({"max_tokens": 400, "min_tokens": 400}));
    let (status, answer) = service.post("/v1/chat/completions", &long).await;
    assert_eq!(
        (status, &answer["usage"]["completion_tokens"]),
        (200, &json!(400)),
        "{answer}"
    );
    wait_for_state(&service, "desk", "parked").await;
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"desk": "parked"}));
    assert!(service.workers().is_empty());
    let (status, answer) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(status, 200, "{answer}");
    // By hand, in either way, and from there to any other state.
    wait_for_state(&service, "desk", "parked").await;
    succeeded(&service, &["endpoint", "stop", "desk"]);
    let (status, refusal) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!((status, &refusal["error"]["code"]), (503, &json!("endpoint_stopped")));
    refused(&service, &["endpoint", "park", "desk"], &["`desk` is stopped"]);
    deploy(&service, &files, "");
    assert!(succeeded(&service, &["endpoint", "park", "desk"]).contains("the next call"));
    assert_eq!(states(&service), json!({"desk": "parked"}));
    succeeded(&service, &["endpoint", "start", "desk"]);
    assert_eq!(states(&service), json!({"desk": "ready"}));
    succeeded(&service, &["endpoint", "park", "desk", "--within", "0s"]);
    succeeded(&service, &["endpoint", "remove", "desk"]);
    assert_eq!(states(&service), json!({}));
}

#[tokio::test]
async fn a_deployment_that_fails_leaves_a_parked_or_stopped_endpoint_as_it_was() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    for (word, state) in [("park", "parked"), ("stop", "stopped")] {
        deploy(&service, &files, "");
        succeeded(&service, &["endpoint", word, "desk"]);
        let worse = spec(files.path(), "desk", &small("limits.start = \"1ms\""));
        refused(&service, &["endpoint", "deploy", &worse], &["not ready after 0.001 s"]);
        // The worker failed, and no place in the spec did.
        let text = std::fs::read_to_string(&worse).unwrap();
        let (status, answer) = service
            .post("/manage/endpoints?wait=120s", &json!({"name": "desk", "spec": text}))
            .await;
        assert_eq!(
            (status, &answer["error"]["code"]),
            (503, &json!("endpoint_failed")),
            "{answer}"
        );
        assert!(
            !answer["error"]["message"].as_str().unwrap().contains("line 1"),
            "{answer}"
        );
        assert_eq!(states(&service), json!({"desk": state}));
    }
    succeeded(&service, &["endpoint", "start", "desk"]);
    succeeded(&service, &["endpoint", "park", "desk"]);
    let (status, answer) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(status, 200, "the release of before answers: {answer}");
}

#[tokio::test]
async fn two_endpoints_share_a_device_that_has_room_for_one() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let rest = "[device]\nprofile = \"sim-48g\"\nsplit = 8\n[precision]\nweights = \"f32\"\n\
        [batch]\nwidth = 8\ncontext = 2048\n";
    for name in ["one", "two"] {
        let file = spec(files.path(), name, &spec_of("shapes/lighthouse-70b", rest));
        succeeded(&service, &["endpoint", "deploy", &file]);
        succeeded(&service, &["endpoint", "park", name]);
    }
    let call = |name: &str| asked(name, json!({"max_tokens": 2}));
    let (status, answer) = service.post("/v1/chat/completions", &call("one")).await;
    assert_eq!(status, 200, "{answer}");
    let refusal = service.send("/v1/chat/completions", &call("two")).await;
    assert_eq!(refusal.status(), 503);
    assert!(refusal.headers().contains_key("retry-after"));
    let refusal: Value = refusal.json().await.unwrap();
    assert_eq!(refusal["error"]["code"], "endpoint_parked");
    let said = refusal["error"]["message"].as_str().unwrap();
    assert!(said.contains("does not fit") && said.contains("one"), "{said}");
    succeeded(&service, &["endpoint", "park", "one"]);
    let (status, answer) = service.post("/v1/chat/completions", &call("two")).await;
    assert_eq!(status, 200, "{answer}");
    assert_eq!(states(&service), json!({"one": "parked", "two": "ready"}));
}

#[tokio::test]
async fn what_cannot_be_started_for_a_call_says_why_and_a_caller_of_others_starts_nothing() {
    let files = TempDir::new().unwrap();
    let service = guarded(&[]);
    let model = files.path().join("model");
    let folder = crate::support::repository().join("demo/models/pierdesk-1");
    std::os::unix::fs::symlink(folder, &model).unwrap();
    let file = spec(files.path(), "desk", "model = \"model\"");
    // Its own user may name any file.
    let deploying = service
        .command()
        .args(["endpoint", "deploy", &file, "--url", &service.url])
        .status();
    assert!(deploying.unwrap().success());
    succeeded(&service, &["endpoint", "park", "desk"]);
    let made = service.client_json(&["key", "create", "--name", "other", "--endpoint", "pierdesk"]);
    let stranger = reqwest::Client::new()
        .post(format!("{}/v1/chat/completions", service.url))
        .bearer_auth(made["key"].as_str().unwrap())
        .json(&asked("desk", json!({})))
        .send();
    assert_eq!(stranger.await.unwrap().status(), 404);
    assert_eq!(states(&service)["desk"], "parked");
    std::fs::remove_file(&model).unwrap();
    let (status, refusal) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(
        (status, &refusal["error"]["code"]),
        (503, &json!("endpoint_failed")),
        "{refusal}"
    );
    assert_eq!(states(&service)["desk"], "failed");
}

#[tokio::test]
async fn an_endpoint_stops_when_its_time_is_over() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let text = format!("stop_after = \"500ms\"\n{}", small(""));
    succeeded(&service, &["endpoint", "deploy", &spec(files.path(), "desk", &text)]);
    wait_for_state(&service, "desk", "stopped").await;
    let stopped = service.client_json(&["event", "list", "--what", "stopped"]);
    assert_eq!(stopped[0]["who"], "service");
    let said = stopped[0]["why"].as_str().unwrap();
    assert!(said.contains("stop_after"), "{said}");
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"desk": "stopped"}));
}

#[tokio::test]
async fn a_load_test_starts_what_is_parked_and_a_call_waits_no_longer_than_it_is_to() {
    let (files, model) = (
        TempDir::new().unwrap(),
        crate::taken::specimen(512, 8, 8, 4, 1536, 2_048),
    );
    let service = Service::start(&[]);
    succeeded(
        &service,
        &["endpoint", "deploy", &spec(files.path(), "desk", &small(""))],
    );
    succeeded(&service, &["endpoint", "park", "desk"]);
    succeeded(
        &service,
        &["load", "run", "--model", "desk", "--count", "2", "--users", "1"],
    );
    assert_eq!(states(&service), json!({"desk": "ready"}));
    let text = format!("{}[limits]\nwait = \"1ms\"\n", crate::jobs::large(&model));
    succeeded(&service, &["endpoint", "deploy", &spec(files.path(), "slow", &text)]);
    succeeded(&service, &["endpoint", "park", "slow"]);
    // Converting it again takes far longer, also for the next service.
    let service = Service::start_in(service.kill(), &LOOPBACK);
    let shown = service.client_json(&["model", "builds"]);
    let slow = shown
        .as_array()
        .unwrap()
        .iter()
        .find(|build| build["users"] == json!(["slow"]));
    let folder = service
        .data
        .path()
        .join("builds")
        .join(slow.unwrap()["digest"].as_str().unwrap());
    std::fs::remove_dir_all(folder).unwrap();
    let refusal = service
        .send("/v1/chat/completions", &asked("slow", json!({"max_tokens": 2})))
        .await;
    assert_eq!(refusal.status(), 503);
    assert!(refusal.headers().contains_key("retry-after"));
    let refusal: Value = refusal.json().await.unwrap();
    assert_eq!(refusal["error"]["code"], "starting", "{refusal}");
    assert!(refusal.to_string().contains("limits.wait"), "{refusal}");
    wait_for_state(&service, "slow", "ready").await;
}
