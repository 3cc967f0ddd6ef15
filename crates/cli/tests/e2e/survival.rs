//! Answers outlive the workers that make them.

use crate::support::{Service, chat, frames, whole, with};
use serde_json::{Value, json};
use std::path::Path;
use tempfile::TempDir;

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
    let calls = service.client_json(&["request", "list", "--most", "1"]);
    let id = calls[0]["id"].as_str().unwrap();
    let shown = service.client_json(&["request", "show", id]);
    let moves = shown["moves"].as_array().unwrap();
    assert!(!moves.is_empty(), "{shown}");
    assert!(moves[0]["tokens"].as_u64().unwrap() > 0 && moves[0]["after"].as_f64().unwrap() > 0.0);
    let printed = service.client(&["request", "show", id]);
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
async fn a_worker_that_freezes_without_work_is_noticed_and_replaced() {
    let service = Service::demo(&[]);
    let before = service.ask("Can I bring my dog?").await;
    let frozen = service.worker();
    service.signal_worker("STOP");
    while service.has_process(frozen) {
        tokio::task::yield_now().await;
    }
    assert_eq!(service.ask("Can I bring my dog?").await, before);
    let log = service.log();
    assert!(log.contains("its engine did not answer a ping"), "{log}");
}

#[tokio::test]
async fn a_worker_begins_anew_while_nobody_can_write_the_database() {
    let service = Service::demo(&[]);
    let before = service.any_worker().await;
    let database = rusqlite::Connection::open(service.data.path().join("vastrelay.sqlite")).unwrap();
    database.execute_batch("BEGIN IMMEDIATE").unwrap();
    service.kill_worker();
    assert!(service.ask("Hello").await.contains("passenger desk"));
    assert_ne!(service.any_worker().await, before);
    database.execute_batch("ROLLBACK").unwrap();
    let starts = loop {
        let shown = service.client_json(&["endpoint", "show", "pierdesk"]);
        let starts = shown["starts"].as_array().unwrap().clone();
        if starts.len() == 2 {
            break starts;
        }
    };
    assert_ne!(starts[0]["incarnation"], starts[1]["incarnation"]);
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
    service.client_json(&["request", "list"]);
    let worker = service.worker();
    let data = service.kill();
    while std::path::Path::new(&format!("/proc/{worker}")).exists() {
        std::thread::yield_now();
    }
    let service = Service::start_in(data, &["--demo", "--listen", "127.0.0.1:0"]);
    let calls = service.client_json(&["request", "list"]);
    assert_eq!(calls[0]["outcome"], "interrupted", "{calls}");
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
}

/// Returns the number of the process of an endpoint's worker.
fn process(service: &Service, endpoint: &str) -> Option<u32> {
    let status = service.client_json(&["status"]);
    let endpoints = status["endpoints"].as_array().unwrap();
    let endpoint = endpoints.iter().find(|one| one["name"] == endpoint).unwrap();
    endpoint["replicas"][0]["process"]
        .as_u64()
        .map(|process| process as u32)
}

/// Cuts the largest file of a folder in half.
fn cut_largest(folder: &Path) {
    let files = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let largest = files.max_by_key(|path| path.metadata().unwrap().len()).unwrap();
    let half = largest.metadata().unwrap().len() / 2;
    std::fs::File::options()
        .write(true)
        .open(&largest)
        .unwrap()
        .set_len(half)
        .unwrap();
}

/// Builds the demo's model into a folder.
fn build_demo(out: &std::path::Path) {
    let source = crate::support::repository().join("demo/models/pierdesk-1");
    let made = crate::support::vastrelay()
        .args(["model", "build"])
        .arg(&source)
        .arg("--out")
        .arg(out)
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// Asks `copy` until nobody waits for it any more, and returns what is said of it then.
async fn what_is_said(service: &Service) -> String {
    loop {
        let question = with(chat("When?"), json!({"model": "copy", "max_tokens": 4}));
        let (status, answer) = service.post("/v1/chat/completions", &question).await;
        if status == 503 {
            assert_eq!(answer["error"]["code"], "endpoint_failed", "{answer}");
            return answer["error"]["message"].as_str().unwrap().to_owned();
        }
    }
}

#[tokio::test]
async fn a_model_whose_file_vanishes_or_shrinks_harms_nobody_else_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    // A build of somebody's own is read where it lies.
    let (source, copied) = (folder.path().join("build"), folder.path().join("copy"));
    build_demo(&source);
    let copy = || {
        let copied = std::process::Command::new("cp")
            .arg("-r")
            .arg(&source)
            .arg(&copied)
            .status();
        assert!(copied.unwrap().success());
    };
    copy();
    let model = format!("copy={}", copied.display());
    let service = Service::demo(&["--model", &model]);
    let kill = || service.kill_process(process(&service, "copy").unwrap());
    std::fs::remove_dir_all(&copied).unwrap();
    kill();
    let said = what_is_said(&service).await;
    assert!(said.contains("copy"), "{said}");
    let endpoint = service.endpoint().await;
    let copy_now = &endpoint["replicas"][0];
    assert_eq!(
        (&copy_now["state"], &copy_now["memory"]["resident"]),
        (&json!("failed"), &json!(0)),
        "{copy_now}"
    );
    assert_eq!(service.get("/health/ready/pierdesk").await.0, 200);
    assert_eq!(service.get("/health/ready/copy").await.0, 503);
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
    // It comes back by itself as soon as it can.
    copy();
    service
        .wait_for("it is back", |endpoint| {
            endpoint["name"] == "copy" && endpoint["state"] == "ready"
        })
        .await;
    let question = with(chat("When?"), json!({"model": "copy"}));
    assert_eq!(service.post("/v1/chat/completions", &question).await.0, 200);
    cut_largest(&copied);
    kill();
    let said = what_is_said(&service).await;
    assert!(said.contains(".safetensors"), "{said}");
    assert_eq!(service.get("/health/ready").await.1["failed"], json!(["copy"]));
}

#[tokio::test]
async fn a_build_that_shrinks_under_its_worker_and_one_that_aborts_end_no_answer() {
    let folder = tempfile::tempdir().unwrap();
    let build = folder.path().join("build");
    build_demo(&build);
    let service = Service::demo(&["--model", &format!("copy={}", build.display())]);
    let request = long(json!({}));
    let alone = whole(&stream(&service, &request, &[], || ()).await);
    let aborted = whole(&stream(&service, &request, &[30], || service.signal_worker("ABRT")).await);
    assert_eq!(aborted, alone);
    cut_largest(&build);
    let said = what_is_said(&service).await;
    assert!(said.contains("again and again"), "{said}");
    assert!(service.log().contains("SIGBUS"), "{}", service.log());
    let still = whole(&stream(&service, &request, &[], || ()).await);
    assert_eq!(still, alone);
}

#[tokio::test]
async fn workers_are_started_from_the_running_program_also_when_its_file_was_replaced() {
    let folder = tempfile::tempdir().unwrap();
    let program = folder.path().join("vastrelay");
    std::fs::copy(crate::support::vastrelay().get_program(), &program).unwrap();
    let service = Service::of(&program, &["--demo"]);
    std::fs::remove_file(&program).unwrap();
    std::fs::write(&program, "an upgrade that does not work").unwrap();
    service.kill_worker();
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
}

#[tokio::test]
async fn health_and_management_answer_while_models_load_and_calls_wait() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start_unready(folder, &["--demo"]);
    // Whatever it is about by now, it says how it stands, and a call waits until it is answered.
    let (status, health) = service.get("/health/ready").await;
    assert!(
        status == 503 && health["state"] == "starting" || status == 200 && health["state"] == "ready",
        "{health}"
    );
    assert_eq!(service.get("/health/live").await.0, 200);
    loop {
        let (status, answer) = service
            .post("/v1/chat/completions", &chat("When is the last boat back?"))
            .await;
        if status == 200 {
            break;
        }
        assert_eq!(
            (status, &answer["error"]["code"]),
            (503, &json!("starting")),
            "{answer}"
        );
    }
    assert_eq!(service.get("/health/ready").await.0, 200);
}

#[tokio::test]
async fn a_request_that_three_workers_die_of_is_given_up_and_the_next_one_is_answered() {
    let spec = crate::support::repository().join("demo/lighthouse.toml");
    let service = Service::start(&["--spec", spec.to_str().unwrap()]);
    // Its prompt takes seconds, so a worker can be killed before there is a token.
    let long = json!({"model": "lighthouse", "prompt": vec![50; 6_000], "max_tokens": 4});
    let asking = service.post("/v1/completions", &long);
    let killing = async {
        loop {
            service
                .wait_for("it is in the batch", |endpoint| {
                    endpoint["state"] == "ready" && endpoint["occupancy"]["lanes_used"] == 1
                })
                .await;
            let worker = service.any_worker().await;
            service.kill_process(worker);
            while service.has_process(worker) {
                tokio::task::yield_now().await;
            }
        }
    };
    let (status, answer) = tokio::select! {
        answer = asking => answer,
        () = killing => unreachable!("it goes on until there is an answer"),
    };
    assert_eq!(status, 500, "{answer}");
    let message = answer["error"]["message"].as_str().unwrap();
    assert!(message.contains("three workers in a row"), "{message}");
    let short = json!({"model": "lighthouse", "prompt": "Hello", "max_tokens": 2});
    service
        .wait_for("it is back", |endpoint| endpoint["state"] == "ready")
        .await;
    assert_eq!(service.post("/v1/completions", &short).await.0, 200);
}

#[tokio::test]
async fn a_worker_whose_log_cannot_be_read_is_ended_by_the_next_service_and_replaced() {
    let words = ["--demo", "--listen", "127.0.0.1:0", "--workers-stay", "60s"];
    let service = Service::start_in(TempDir::new().unwrap(), &words);
    let left = service.any_worker().await;
    let data = service.kill();
    let logs = std::fs::read_dir(data.path().join("workers")).unwrap();
    let log = logs
        .map(|entry| entry.unwrap().path())
        .find(|path| path.extension().is_some_and(|end| end == "log"));
    let log = log.expect("a worker has a log");
    std::fs::remove_file(&log).unwrap();
    std::fs::create_dir(&log).unwrap();
    let next = Service::start_in(data, &words);
    assert!(!next.ask("Can I bring my dog?").await.is_empty());
    assert_ne!(next.worker(), left);
    assert!(!next.has_process(left), "the next service ended it");
    next.signal("TERM");
    next.wait();
}
