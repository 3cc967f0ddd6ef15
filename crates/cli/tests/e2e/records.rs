//! What is kept of calls, and that it is kept.

use crate::support::{Service, chat, with};
use futures_util::StreamExt;
use serde_json::{Value, json};

fn out(service: &Service, words: &[&str]) -> String {
    let output = service.client(words);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[tokio::test]
async fn the_life_of_a_request_is_shown_with_its_figures_and_parameters() {
    let service = Service::demo(&[]);
    let question = with(
        chat("Timetable to Eddersay on Saturday?"),
        json!({"stream": true, "seed": 7, "temperature": 0.2}),
    );
    let response = service.send("/v1/chat/completions", &question).await;
    let id = response.headers()["x-request-id"].to_str().unwrap().to_owned();
    response.text().await.unwrap();
    let detail = service.get(&format!("/manage/requests/{id}")).await.1;
    let (call, gaps) = (&detail["call"], detail["gaps"].as_array().unwrap());
    assert_eq!(gaps.len() as u64, call["output_tokens"].as_u64().unwrap() - 1);
    let sum: f64 = gaps.iter().filter_map(Value::as_f64).sum();
    let number = |name: &str| call[name].as_f64().unwrap();
    assert!((number("ttft") + sum - number("total")).abs() < 0.05, "{call}");
    assert!(number("itl_p50") <= number("itl_p90") && number("itl_p99") <= number("itl_max"));
    assert!((number("itl_mean") * gaps.len() as f64 - sum).abs() < 1e-3);
    assert!(number("queued") + number("prefill") <= number("ttft") + 0.01);
    assert_eq!(detail["parameters"]["seed"], 7);
    assert!(detail["parameters"].get("messages").is_none() && detail["text"].is_null());
    let shown = out(&service, &["request", "show", &id[..8]]);
    for word in ["█", "▒", "waiting", "TTFT", "ITL p50", "\"seed\":7", "end-token"] {
        assert!(shown.contains(word), "{word} in\n{shown}");
    }
    assert_eq!(
        out(&service, &["request", "show", "last"]).lines().count(),
        shown.lines().count()
    );
    assert_eq!(service.client(&["request", "show", "zzz"]).status.code(), Some(1));
}

#[tokio::test]
async fn filters_find_the_calls_that_are_looked_for() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    service
        .post("/v1/chat/completions", &with(chat("Hello"), json!({"max_tokens": 2})))
        .await;
    service
        .post("/v1/chat/completions", &with(chat("Hello"), json!({"temperature": 9})))
        .await;
    let count = |words: &[&str]| {
        service
            .client_json(&[&["request", "list"], words].concat())
            .as_array()
            .unwrap()
            .len()
    };
    assert_eq!(count(&[]), 3);
    assert_eq!(count(&["--failed"]), 1);
    assert_eq!(count(&["--outcome", "length"]), 1);
    assert_eq!(count(&["--endpoint", "other"]), 0);
    assert_eq!(count(&["--within", "1h"]), 3);
    assert_eq!(count(&["--slower", "1h"]), 0);
    assert_eq!(count(&["--slower-start", "1us"]), 2);
    let wrong = service.get("/manage/requests?shape=round").await;
    assert!(
        wrong.0 == 400 && wrong.1["error"]["message"].as_str().unwrap().contains("shape"),
        "{wrong:?}"
    );
}

#[tokio::test]
async fn prompts_and_answers_are_kept_only_when_asked_for() {
    let service = Service::demo(&["--record-texts"]);
    let answer = service.ask("Can I bring my dog?").await;
    let streamed = with(chat("Can I bring my dog?"), json!({"stream": true}));
    service
        .send("/v1/chat/completions", &streamed)
        .await
        .text()
        .await
        .unwrap();
    for call in service.client_json(&["request", "list"]).as_array().unwrap() {
        let detail = service
            .get(&format!("/manage/requests/{}", call["id"].as_str().unwrap()))
            .await
            .1;
        assert_eq!(detail["text"]["answer"], json!(answer));
        assert!(detail["text"]["prompt"].as_str().unwrap().contains("my dog"));
    }
    let silent = Service::demo(&[]);
    silent.ask("Can I bring my dog?").await;
    silent.client_json(&["request", "list"]);
    for file in std::fs::read_dir(silent.data.path()).unwrap() {
        let path = file.unwrap().path();
        let found = path.is_file()
            && std::fs::read(path)
                .unwrap()
                .windows(6)
                .any(|window| window == b"my dog");
        assert!(!found);
    }
}

#[tokio::test]
async fn a_caller_who_goes_away_is_on_record() {
    let service = Service::demo(&[]);
    let long = with(
        chat("Hello"),
        json!({"stream": true, "min_tokens": 1500, "max_tokens": 1500}),
    );
    let mut body = service.send("/v1/chat/completions", &long).await.bytes_stream();
    body.next().await.unwrap().unwrap();
    drop(body);
    service
        .wait_for("it is over", |m| {
            m["occupancy"]["lanes_used"] == 0 && m["totals"]["steps"] != 0
        })
        .await;
    let gone = loop {
        let calls = service.client_json(&["request", "list"]);
        if let Some(call) = calls.get(0) {
            break call.clone();
        }
    };
    assert_eq!(
        (&gone["outcome"], &gone["client_gone"]),
        (&json!("client-gone"), &json!(true))
    );
    assert!(gone["output_tokens"].as_u64().unwrap() < 1500);
}

#[tokio::test]
async fn killed_at_any_moment_no_committed_call_is_lost_and_nothing_is_corrupt() {
    let mut data = tempfile::tempdir().unwrap();
    let mut least = 0;
    for round in 0..3 {
        let service = Service::start_in(data, &["--demo", "--listen", "127.0.0.1:0"]);
        let (_, status) = service.get("/manage/status").await;
        let kept = status["calls_recorded"].as_u64().unwrap();
        assert!(kept >= least, "round {round}: {kept} of {least}");
        for _ in 0..20 {
            service.ask("Hello").await;
        }
        // Listed is committed.
        least = service
            .get("/manage/requests?most=1000")
            .await
            .1
            .as_array()
            .unwrap()
            .len() as u64;
        assert!(least >= kept + 20);
        let asking = (0..40).map(|_| service.ask("Can I bring my dog?"));
        let mut asking: futures_util::stream::FuturesUnordered<_> = asking.collect();
        for _ in 0..7 * (round + 1) {
            asking.next().await;
        }
        drop(asking);
        data = service.kill();
        let database = rusqlite::Connection::open(data.path().join("vastrelay.sqlite")).unwrap();
        let state: String = database
            .query_row("PRAGMA integrity_check", [], |row| row.get(0))
            .unwrap();
        assert_eq!(state, "ok");
    }
}

#[tokio::test]
async fn an_id_that_a_caller_gives_shadows_no_other_request() {
    let service = Service::demo(&[]);
    let hello = chat("Hello");
    let first = service.send_named("/v1/chat/completions", &hello, "mine").await;
    let ours = first.headers()["x-request-id"].to_str().unwrap().to_owned();
    assert_ne!(ours, "mine");
    let answer: Value = first.json().await.unwrap();
    assert_eq!(answer["id"], format!("chatcmpl-{ours}"));
    let shown = service.get("/manage/requests/mine").await.1;
    assert_eq!(
        (&shown["call"]["id"], &shown["call"]["given_id"]),
        (&json!(ours), &json!("mine"))
    );
    // Another request with the same id, or with the beginning of ours, changes nothing.
    let again = service.send_named("/v1/chat/completions", &hello, "mine").await;
    let other: Value = again.json().await.unwrap();
    assert_ne!(other["id"], answer["id"]);
    service.send_named("/v1/chat/completions", &hello, &ours[..8]).await;
    service.send_named("/v1/chat/completions", &hello, &ours).await;
    for id in [&ours[..], &ours[..8]] {
        assert_eq!(
            service.get(&format!("/manage/requests/{id}")).await.1["call"]["id"],
            json!(ours),
            "{id}"
        );
    }
    assert_eq!(
        service.get("/manage/requests/mine").await.0,
        404,
        "two were sent under that name"
    );
}
