//! Answers outlive the workers that make them.

use crate::support::{Service, chat, frames, with};
use serde_json::{Value, json};

/// Returns a request whose answer is long.
fn long(more: Value) -> Value {
    let question = chat("When is the last boat back on Sunday?");
    with(
        with(
            question,
            json!({"max_tokens": 300, "min_tokens": 300, "temperature": 0}),
        ),
        more,
    )
}

/// Requests whose answers depend on all that goes on elsewhere: positions, seeds, penalties, several completions.
fn kinds() -> Vec<Value> {
    vec![
        long(json!({})),
        long(json!({"temperature": 1, "seed": 5})),
        long(json!({"temperature": 1, "seed": 6, "n": 3, "frequency_penalty": 0.5})),
        long(json!({"temperature": 0.7, "seed": 7, "logprobs": true, "top_logprobs": 2})),
        long(json!({"temperature": 1, "seed": 8, "min_tokens": 0, "stop": [" the last boat at noon"]})),
    ]
}

/// Puts the pieces of a stream together: for each completion its text, log-probabilities and end.
fn whole(frames: &[Value]) -> Vec<(String, Vec<Value>, Value)> {
    let mut all: Vec<(String, Vec<Value>, Value)> = Vec::new();
    for choice in frames.iter().flat_map(|frame| frame["choices"].as_array().unwrap()) {
        let index = choice["index"].as_u64().unwrap() as usize;
        all.resize(all.len().max(index + 1), Default::default());
        let one = &mut all[index];
        one.0 += choice["delta"]["content"].as_str().unwrap_or("");
        one.1
            .extend(choice["logprobs"]["content"].as_array().into_iter().flatten().cloned());
        if !choice["finish_reason"].is_null() {
            one.2 = choice["finish_reason"].clone();
        }
    }
    all
}

/// Streams an answer and calls `at` after some frames; returns the frames.
async fn stream(service: &Service, request: &Value, at: &[usize], mut act: impl FnMut()) -> Vec<Value> {
    let mut response = service
        .send("/v1/chat/completions", &with(request.clone(), json!({"stream": true})))
        .await;
    assert_eq!(response.status(), 200);
    let (mut text, mut seen) = (String::new(), 0);
    while let Some(bytes) = response.chunk().await.unwrap() {
        text.push_str(std::str::from_utf8(&bytes).unwrap());
        let come = text.matches("\n\n").count();
        for _ in at.iter().filter(|at| (seen..come).contains(at)) {
            act();
        }
        seen = come;
    }
    let frames = frames(&text);
    assert_eq!(frames.last().map(String::as_str), Some("[DONE]"), "{text}");
    frames[..frames.len() - 1]
        .iter()
        .map(|frame| serde_json::from_str(frame).unwrap())
        .collect()
}

#[tokio::test]
async fn an_answer_goes_on_with_the_same_bits_when_its_worker_is_killed() {
    let service = Service::demo(&[]);
    for request in kinds() {
        let alone = whole(&stream(&service, &request, &[], || ()).await);
        let killed = whole(&stream(&service, &request, &[15, 90], || service.kill_worker()).await);
        assert_eq!(killed, alone, "{request}");
    }
    let calls = service.client_json(&["requests", "list", "--most", "1"]);
    let id = calls[0]["id"].as_str().unwrap();
    let shown = service.client_json(&["requests", "show", id]);
    let moves = shown["moves"].as_array().unwrap();
    assert!(!moves.is_empty(), "{shown}");
    assert!(moves[0]["tokens"].as_u64().unwrap() > 0 && moves[0]["after"].as_f64().unwrap() > 0.0);
    let printed = service.client(&["requests", "show", id]);
    let printed = String::from_utf8(printed.stdout).unwrap();
    assert!(
        printed.contains("moved") && printed.contains("it went on with another worker"),
        "{printed}"
    );
    let metrics = service.text("/metrics").await;
    let gone = metrics
        .lines()
        .find(|line| line.starts_with("vastrelay_workers_gone_total"));
    assert!(gone.is_some_and(|line| line.contains("cause=\"killed\"")), "{metrics}");
}

#[tokio::test]
async fn an_answer_that_is_collected_goes_on_too_and_so_do_those_that_wait() {
    let service = Service::demo(&["--width", "2"]);
    let request = long(json!({"temperature": 1, "seed": 3}));
    let (status, alone) = service.post("/v1/chat/completions", &request).await;
    assert_eq!(status, 200);
    let all = async {
        let calls = (0..8).map(|_| service.post("/v1/chat/completions", &request));
        futures_util::future::join_all(calls).await
    };
    let kill = async {
        service
            .wait_for("lanes are taken and others wait", |endpoint| {
                endpoint["occupancy"]["lanes_used"] == 2 && endpoint["occupancy"]["queue_depth"].as_u64() > Some(2)
            })
            .await;
        service.kill_worker();
    };
    let (answers, ()) = tokio::join!(all, kill);
    for (status, answer) in answers {
        assert_eq!(status, 200, "{answer}");
        assert_eq!(answer["choices"], alone["choices"]);
        assert_eq!(answer["usage"]["completion_tokens"], 300);
    }
}

#[tokio::test]
async fn a_worker_that_hangs_is_replaced_and_its_answer_goes_on() {
    let service = Service::demo(&["--hang-after", "1s"]);
    let request = long(json!({}));
    let alone = whole(&stream(&service, &request, &[], || ()).await);
    let stopped = whole(&stream(&service, &request, &[20], || service.signal_worker("STOP")).await);
    assert_eq!(stopped, alone);
    assert!(service.log().contains("it hung"), "{}", service.log());
}

#[tokio::test]
async fn calls_of_a_service_that_is_killed_are_interrupted_and_its_workers_end() {
    let service = Service::demo(&[]);
    let request = with(
        long(json!({})),
        json!({"stream": true, "max_tokens": 1_900, "min_tokens": 1_900}),
    );
    let mut response = service.send("/v1/chat/completions", &request).await;
    response.chunk().await.unwrap();
    // Whoever lists calls waits until what came before is written.
    service.client_json(&["requests", "list"]);
    let worker = service.worker();
    let data = service.kill();
    while std::path::Path::new(&format!("/proc/{worker}")).exists() {
        std::thread::yield_now();
    }
    let service = Service::start_in(data, &["--demo", "--listen", "127.0.0.1:0"]);
    let calls = service.client_json(&["requests", "list"]);
    assert_eq!(calls[0]["outcome"], "interrupted", "{calls}");
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
}
