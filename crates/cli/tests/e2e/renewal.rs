//! Workers are replaced without losing a request, and what happened to endpoints is on record.

use crate::support::{Service, chat, with};
use serde_json::{Value, json};

fn long(more: Value) -> Value {
    let whole = json!({"max_tokens": 300, "min_tokens": 300, "temperature": 1});
    with(with(chat("When is the last boat back on Sunday?"), whole), more)
}

/// Returns the events of a kind, newest first.
fn events(service: &Service, what: &str) -> Vec<Value> {
    let events = service.client_json(&["event", "list", "--what", what]);
    events.as_array().unwrap().clone()
}

/// Answers several requests while their worker is renewed; returns the ids of the answers.
async fn renew_under_load(service: &Service, within: &str) -> Vec<String> {
    let (_, alone) = service.post("/v1/chat/completions", &long(json!({"seed": 3}))).await;
    let before = service.worker();
    let answers = async {
        let calls = (0..6).map(|_| {
            let request = long(json!({"seed": 3}));
            async move { service.post("/v1/chat/completions", &request).await }
        });
        futures_util::future::join_all(calls).await
    };
    let renewed = async {
        service
            .wait_for("answers are under way", |endpoint| {
                endpoint["occupancy"]["lanes_used"] == 2
            })
            .await;
        let command = service.client_later(&["endpoint", "renew", "pierdesk", "--within", within, "--json"]);
        tokio::task::spawn_blocking(move || command.wait_with_output().unwrap())
            .await
            .unwrap()
    };
    let (answers, renewed) = tokio::join!(answers, renewed);
    assert!(renewed.status.success(), "{}", String::from_utf8_lossy(&renewed.stderr));
    let status: Value = serde_json::from_slice(&renewed.stdout).unwrap();
    assert_eq!(status["state"], "ready");
    assert_ne!(status["replicas"][0]["process"].as_u64(), Some(u64::from(before)));
    for (status, answer) in &answers {
        assert_eq!(*status, 200, "{answer}");
        assert_eq!(answer["choices"], alone["choices"]);
    }
    answers
        .iter()
        .map(|(_, answer)| answer["id"].as_str().unwrap().to_owned())
        .collect()
}

#[tokio::test]
async fn a_worker_is_renewed_under_load_and_no_request_notices() {
    let service = Service::demo(&["--width", "2"]);
    renew_under_load(&service, "60s").await;
    assert_eq!(
        events(&service, "request_moved"),
        [] as [Value; 0],
        "they had the time to end where they were"
    );
    assert_eq!(events(&service, "worker_gone"), [] as [Value; 0], "nothing died");
    assert_eq!(events(&service, "worker_ready").len(), 2);
    let renewed = &events(&service, "renewed")[0];
    assert_eq!(
        (&renewed["endpoint"], &renewed["replica"]),
        (&json!("pierdesk"), &json!(0))
    );
    assert!(renewed["why"].as_str().unwrap().contains("60 s"), "{renewed}");
}

#[tokio::test]
async fn requests_that_take_too_long_go_on_with_the_next_worker() {
    let service = Service::demo(&["--width", "2"]);
    renew_under_load(&service, "0s").await;
    let moved = events(&service, "request_moved");
    assert!(!moved.is_empty());
    for event in &moved {
        let why = event["why"].as_str().unwrap();
        assert!(why.contains("token") && why.contains("drained"), "{why}");
    }
    assert_eq!(events(&service, "worker_gone"), [] as [Value; 0]);
}

#[tokio::test]
async fn events_tell_who_did_what_and_why() {
    let service = Service::demo(&[]);
    let deployed = &events(&service, "deployed")[0];
    assert_eq!((&deployed["who"], &deployed["release"]), (&json!("start"), &json!(1)));
    assert!(deployed["why"].as_str().unwrap().starts_with("from /"), "{deployed}");
    service.kill_worker();
    service
        .wait_for("the next worker is ready", |endpoint| {
            endpoint["replicas"][0]["incarnation"] == 2
        })
        .await;
    let gone = &events(&service, "worker_gone")[0];
    assert!(gone["why"].as_str().unwrap().starts_with("killed: "), "{gone}");
    assert_eq!((&gone["who"], &gone["replica"]), (&json!("service"), &json!(1)));
    service.client(&["endpoint", "remove", "pierdesk"]);
    let printed = service.client(&["event", "list", "--most", "3", "--endpoint", "pierdesk"]);
    let printed = String::from_utf8(printed.stdout).unwrap();
    let lines: Vec<&str> = printed.lines().collect();
    assert_eq!(lines.len(), 3, "{printed}");
    for (line, word) in lines.iter().zip(["removed", "worker_ready", "worker_gone"]) {
        assert!(line.contains(word) && line.contains("pierdesk (release 1"), "{printed}");
    }
    let numbers: Vec<i64> = service
        .client_json(&["event", "list"])
        .as_array()
        .unwrap()
        .iter()
        .map(|event| event["number"].as_i64().unwrap())
        .collect();
    assert!(numbers.is_sorted_by(|newer, older| newer > older), "{numbers:?}");
    let none = service.client_json(&["event", "list", "--endpoint", "harbour"]);
    assert_eq!(none, json!([]));
}

#[tokio::test]
async fn what_cannot_be_renewed_or_listed_is_refused_and_told_why() {
    let service = Service::demo(&[]);
    let (status, unknown) = service
        .post("/manage/endpoints/harbour/renew?wait=120s", &json!({}))
        .await;
    assert_eq!(status, 404);
    assert!(
        unknown["error"]["message"].as_str().unwrap().contains("pierdesk"),
        "{unknown}"
    );
    for within in [json!(-1), json!(100_000)] {
        let (status, refused) = service
            .post("/manage/endpoints/pierdesk/renew?wait=120s", &json!({"within": within}))
            .await;
        assert_eq!(status, 400, "{refused}");
        assert_eq!(refused["error"]["param"], "within");
    }
    let (status, refused) = service.get("/manage/events?what=sunk").await;
    assert_eq!(status, 400);
    let text = refused["error"]["message"].as_str().unwrap();
    assert!(text.contains("`sunk`") && text.contains("worker_gone"), "{text}");
    let unknown = service.client(&["endpoint", "renew", "harbour"]);
    assert_eq!(unknown.status.code(), Some(1));
    let said = String::from_utf8(unknown.stderr).unwrap();
    assert!(
        said.contains("no endpoint `harbour`") && said.contains("pierdesk"),
        "{said}"
    );
}
