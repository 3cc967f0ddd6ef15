//! The control plane: a newer wish takes the place of one that hangs, and nothing waits for what does not answer.

use crate::deployed::{LOOPBACK, asked, client, refused, small, spec, states, succeeded, wait_for_state};
use crate::support::Service;
use crate::taken::specimen;
use serde_json::{Value, json};
use std::path::Path;
use tempfile::TempDir;

/// Returns the spec of a model that loads slowly: every worker converts its weights, because its device has a separate build.
fn slow(model: &Path) -> String {
    format!(
        "model = {:?}\nprecision.weights = \"int4\"\n",
        model.display().to_string()
    )
}

/// Stops a signal's worth of a worker as soon as there is another one than these; returns its process.
async fn freeze_next(service: &Service, known: &[u32]) -> u32 {
    loop {
        if let Some(worker) = service.workers().into_iter().find(|worker| !known.contains(worker)) {
            service.signal_process(worker, "STOP");
            return worker;
        }
        tokio::task::yield_now().await;
    }
}

/// Waits until a process is gone.
async fn gone(service: &Service, process: u32) {
    while service.has_process(process) {
        tokio::task::yield_now().await;
    }
}

/// Returns the newest job of an endpoint.
fn newest(service: &Service, endpoint: &str) -> Value {
    let jobs = service.client_json(&["job", "list"]);
    let mut of_it = jobs
        .as_array()
        .unwrap()
        .iter()
        .filter(|job| job["endpoint"] == endpoint && job["kind"] != "build");
    of_it.next().unwrap().clone()
}

#[tokio::test]
async fn a_worker_frozen_while_it_loads_keeps_nobody_from_stopping_replacing_or_removing_it() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&[]);
    let known = service.workers();
    let file = spec(files.path(), "desk", &small("batch.width = 3"));
    // A stop ends a deployment that hangs; nothing is left of an endpoint that was never served.
    let deploying = service.client_later(&["endpoint", "deploy", &file]);
    let frozen = freeze_next(&service, &known).await;
    assert_eq!(
        states(&service)["desk"],
        "starting",
        "it is listed from the beginning on"
    );
    succeeded(&service, &["endpoint", "stop", "desk"]);
    let deployed = deploying.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&deployed.stderr).into_owned();
    assert!(
        deployed.status.code() == Some(1) && said.contains("is replaced"),
        "{said}"
    );
    gone(&service, frozen).await;
    // A deployment takes the place of one that hangs.
    let deploying = service.client_later(&["endpoint", "deploy", &file]);
    let frozen = freeze_next(&service, &known).await;
    let other = spec(files.path(), "desk", &small("batch.width = 5"));
    succeeded(&service, &["endpoint", "deploy", &other]);
    assert_eq!(deploying.wait_with_output().unwrap().status.code(), Some(1));
    gone(&service, frozen).await;
    assert_eq!(
        service.post("/v1/chat/completions", &asked("desk", json!({}))).await.0,
        200
    );
    // A removal ends a start that hangs; the endpoint beside it has answered all the time.
    succeeded(&service, &["endpoint", "stop", "desk"]);
    let starting = service.client_later(&["endpoint", "start", "desk"]);
    let frozen = freeze_next(&service, &known).await;
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
    succeeded(&service, &["endpoint", "remove", "desk"]);
    assert_eq!(starting.wait_with_output().unwrap().status.code(), Some(1));
    gone(&service, frozen).await;
    assert_eq!(states(&service), json!({"pierdesk": "ready"}));
}

#[tokio::test]
async fn a_worker_frozen_while_it_idles_or_answers_is_stopped_renewed_replaced_and_removed() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&["--hang-after", "2s"]);
    let long = crate::support::with(
        asked("pierdesk", json!({})),
        json!({"temperature": 0, "min_tokens": 300, "max_tokens": 300}),
    );
    let (_, alone) = service.post("/v1/chat/completions", &long).await;
    let freeze_in_the_middle = async || {
        service
            .wait_for("a call runs", |endpoint| endpoint["occupancy"]["lanes_used"] == 1)
            .await;
        let frozen = service.worker();
        service.signal_worker("STOP");
        frozen
    };
    // It idles.
    let frozen = service.worker();
    service.signal_worker("STOP");
    succeeded(&service, &["endpoint", "stop", "pierdesk", "--within", "1s"]);
    gone(&service, frozen).await;
    succeeded(&service, &["endpoint", "start", "pierdesk"]);
    // The worker answers: its successor continues the call.
    let renewing = async {
        let frozen = freeze_in_the_middle().await;
        let renewed = service
            .post("/manage/endpoints/pierdesk/renew?wait=120s", &json!({"within": 1}))
            .await;
        assert_eq!(renewed.0, 200, "{}", renewed.1);
        gone(&service, frozen).await;
    };
    let ((status, answer), ()) = tokio::join!(service.post("/v1/chat/completions", &long), renewing);
    assert_eq!((status, &answer["choices"]), (200, &alone["choices"]), "{answer}");
    // A new release takes over; the old one's worker is found to hang, and its next one answers.
    let other = spec(files.path(), "pierdesk", &small("batch.width = 5"));
    let replacing = async {
        let frozen = freeze_in_the_middle().await;
        let command = service.client_later(&["endpoint", "deploy", &other]);
        let done = tokio::task::spawn_blocking(move || command.wait_with_output().unwrap());
        assert!(done.await.unwrap().status.success());
        frozen
    };
    let ((status, answer), frozen) = tokio::join!(service.post("/v1/chat/completions", &long), replacing);
    assert_eq!((status, &answer["choices"]), (200, &alone["choices"]), "{answer}");
    gone(&service, frozen).await;
    // A removal answers what runs; a stop ends it in time.
    let stopping = async {
        let frozen = freeze_in_the_middle().await;
        let stopped = service
            .post("/manage/endpoints/pierdesk/stop?wait=120s", &json!({"within": 1}))
            .await;
        assert_eq!(stopped.0, 200, "{}", stopped.1);
        gone(&service, frozen).await;
    };
    let ((status, answer), ()) = tokio::join!(service.post("/v1/chat/completions", &long), stopping);
    assert_eq!(
        (status, &answer["error"]["code"]),
        (503, &json!("endpoint_stopped")),
        "{answer}"
    );
    succeeded(&service, &["endpoint", "start", "pierdesk"]);
    let removing = async {
        let frozen = freeze_in_the_middle().await;
        let command = service.client_later(&["endpoint", "remove", "pierdesk"]);
        let done = tokio::task::spawn_blocking(move || command.wait_with_output().unwrap());
        assert!(done.await.unwrap().status.success());
        gone(&service, frozen).await;
    };
    let ((status, answer), ()) = tokio::join!(service.post("/v1/chat/completions", &long), removing);
    assert_eq!((status, &answer["choices"]), (200, &alone["choices"]), "{answer}");
    assert_eq!(states(&service), json!({}));
}

#[tokio::test]
async fn a_frozen_conversion_and_a_hundred_deployments_behind_it_block_nothing_else() {
    let (files, model) = (TempDir::new().unwrap(), specimen(512, 8, 8, 4, 1536, 2_048));
    let service = Service::demo(&[]);
    let file = spec(files.path(), "desk", &slow(model.path()));
    let mut deploying = service.client_later(&["endpoint", "deploy", &file]);
    let converter = loop {
        match service.processes("convert").first() {
            Some(converter) => break *converter,
            None => tokio::task::yield_now().await,
        }
    };
    service.signal_process(converter, "STOP");
    let other = slow(model.path()).replace("int4", "int8");
    for number in 0..100 {
        let body = json!({"name": format!("dock-{number}"), "spec": other});
        let (status, job) = service.post("/manage/endpoints", &body).await;
        assert_eq!(status, 202, "{job}");
    }
    assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
    assert_eq!(states(&service)["dock-99"], "starting");
    succeeded(&service, &["key", "create", "--name", "anna"]);
    succeeded(&service, &["endpoint", "check", &file]);
    // A deployment without a conversion succeeds, and a waiting one can be removed.
    succeeded(
        &service,
        &["endpoint", "deploy", &spec(files.path(), "pier", &small(""))],
    );
    for number in 0..100 {
        let path = format!("/manage/endpoints/dock-{number}?wait=60s");
        let removed = service.call(reqwest::Method::DELETE, &path).send().await.unwrap();
        assert_eq!(removed.status(), 200);
    }
    service.signal_process(converter, "CONT");
    assert!(deploying.wait().unwrap().success());
    assert_eq!(
        states(&service),
        json!({"desk": "ready", "pier": "ready", "pierdesk": "ready"})
    );
}

#[tokio::test]
async fn a_service_ends_in_seconds_although_a_worker_that_loads_is_frozen_and_a_call_waits_for_it() {
    let service = Service::demo(&[]);
    succeeded(&service, &["endpoint", "park", "pierdesk"]);
    while !service.workers().is_empty() {
        tokio::task::yield_now().await;
    }
    let question = asked("pierdesk", json!({}));
    let call = service.post("/v1/chat/completions", &question);
    let ending = async {
        let frozen = freeze_next(&service, &[]).await;
        service.signal("TERM");
        frozen
    };
    let ((status, answer), frozen) = tokio::join!(call, ending);
    assert_eq!(status, 503, "{answer}");
    let begun = std::time::Instant::now();
    let is_there = format!("/proc/{frozen}");
    assert!(service.wait().success());
    assert!(!Path::new(&is_there).exists());
    assert!(
        begun.elapsed() < std::time::Duration::from_secs(30),
        "it took {:?}",
        begun.elapsed()
    );
}

#[tokio::test]
async fn a_call_for_an_endpoint_that_is_deployed_for_the_first_time_waits_and_is_answered() {
    let (files, model) = (TempDir::new().unwrap(), specimen(512, 8, 8, 4, 1536, 2_048));
    let service = Service::start(&[]);
    let file = spec(files.path(), "desk", &slow(model.path()));
    let deploying = service.client_later(&["endpoint", "deploy", &file]);
    wait_for_state(&service, "desk", "starting").await;
    assert_eq!(service.get("/v1/models/desk").await.1["state"], "starting");
    let (status, answer) = service
        .post(
            "/v1/completions",
            &json!({"model": "desk", "prompt": [1, 2], "max_tokens": 2}),
        )
        .await;
    assert_eq!(status, 200, "{answer}");
    assert!(deploying.wait_with_output().unwrap().status.success());
}

#[tokio::test]
async fn a_deployment_that_fails_leaves_what_was_there_as_it_was() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let good = spec(files.path(), "desk", &small(""));
    succeeded(&service, &["endpoint", "deploy", &good]);
    let bad = spec(files.path(), "desk", &small("batch.width = 3\nlimits.start = \"1ms\""));
    let fails = || refused(&service, &["endpoint", "deploy", &bad], &["not ready after"]);
    fails();
    assert_eq!(states(&service)["desk"], "ready");
    succeeded(&service, &["endpoint", "park", "desk"]);
    fails();
    assert_eq!(states(&service)["desk"], "parked");
    assert_eq!(
        service.post("/v1/chat/completions", &asked("desk", json!({}))).await.0,
        200
    );
    succeeded(&service, &["endpoint", "stop", "desk"]);
    fails();
    assert_eq!(states(&service)["desk"], "stopped");
    assert_eq!(newest(&service, "desk")["state"], "failed");
}

#[tokio::test]
async fn a_call_that_comes_while_a_parking_endpoint_drains_waits_and_is_answered() {
    let service = Service::demo(&["--width", "1"]);
    let long = crate::support::with(
        asked("pierdesk", json!({})),
        json!({"min_tokens": 400, "max_tokens": 400}),
    );
    let running = service.post("/v1/chat/completions", &long);
    let question = asked("pierdesk", json!({}));
    let parking = async {
        service
            .wait_for("a call runs", |endpoint| endpoint["occupancy"]["lanes_used"] == 1)
            .await;
        let parked = service
            .post("/manage/endpoints/pierdesk/park", &json!({"within": 60}))
            .await;
        assert_eq!(parked.0, 202, "{}", parked.1);
        assert_eq!(parked.1["state"], "running");
        service.post("/v1/chat/completions", &question).await
    };
    let ((first, answer), (second, other)) = tokio::join!(running, parking);
    assert_eq!((first, second), (200, 200), "{answer} {other}");
    assert_eq!(answer["usage"]["completion_tokens"], 400);
}

#[tokio::test]
async fn a_change_is_a_job_that_is_waited_for_followed_and_cancelled() {
    let (files, model) = (TempDir::new().unwrap(), specimen(512, 8, 8, 4, 1536, 2_048));
    let service = Service::start(&[]);
    let file = spec(files.path(), "desk", &small(""));
    let text = std::fs::read_to_string(&file).unwrap();
    let body = json!({"name": "desk", "spec": text});
    let response = service.send("/manage/endpoints", &body).await;
    let address = response.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(response.status(), 202);
    let job: Value = response.json().await.unwrap();
    assert_eq!((&job["kind"], &job["endpoint"]), (&json!("deploy"), &json!("desk")));
    assert_eq!(address, format!("/manage/jobs/{}", job["number"]));
    let number = job["number"].to_string();
    assert!(succeeded(&service, &["job", "follow", &number]).contains("the endpoint is ready"));
    let shown = succeeded(&service, &["job", "show", &number]);
    assert!(
        shown.contains("its model is opened") && shown.contains("worker"),
        "{shown}"
    );
    let (status, waited) = service
        .post("/manage/endpoints/desk/renew?wait=60s", &json!({"within": 0}))
        .await;
    assert_eq!((status, &waited["state"]), (200, &json!("ready")), "{waited}");
    for wait in ["soon", "2h", "-1s"] {
        let (status, refusal) = service.post(&format!("/manage/endpoints?wait={wait}"), &body).await;
        assert_eq!((status, &refusal["error"]["param"]), (400, &json!("wait")), "{refusal}");
    }
    // A deployment that is cancelled leaves the release that was there.
    let other = spec(files.path(), "desk", &slow(model.path()));
    let deploying = service.client_later(&["endpoint", "deploy", &other]);
    while newest(&service, "desk")["kind"] != "deploy" || newest(&service, "desk")["state"] != "running" {
        tokio::task::yield_now().await;
    }
    let number = newest(&service, "desk")["number"].to_string();
    succeeded(&service, &["job", "cancel", &number]);
    let deployed = deploying.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&deployed.stderr).into_owned();
    assert!(
        deployed.status.code() == Some(1) && said.contains("cancelled"),
        "{said}"
    );
    assert_eq!(states(&service), json!({"desk": "ready"}));
    assert_eq!(service.get("/manage/endpoints/desk").await.1["status"]["release"], 1);
    let stopping = service
        .post("/manage/endpoints/desk/stop", &json!({"within": 60}))
        .await;
    assert_eq!(stopping.0, 202);
}

#[tokio::test]
async fn a_change_that_was_noted_goes_on_with_the_next_service() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&[]);
    let file = spec(files.path(), "desk", &small("batch.width = 3"));
    let known = service.workers();
    let mut deploying = service.client_later(&["endpoint", "deploy", &file]);
    let frozen = freeze_next(&service, &known).await;
    let data = service.kill();
    assert_eq!(deploying.wait().unwrap().code(), Some(3), "its service was killed");
    let service = Service::start_in(data, &LOOPBACK);
    wait_for_state(&service, "desk", "ready").await;
    assert_eq!(newest(&service, "desk")["state"], "done");
    let answer = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(answer.0, 200, "{}", answer.1);
    service.kill_process(frozen);
    // Stopped while another one starts, it stays stopped.
    succeeded(&service, &["endpoint", "stop", "desk"]);
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service)["desk"], "stopped");
    let (removed, said) = client(&service, &["endpoint", "remove", "desk"]);
    assert!(removed, "{said}");
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"pierdesk": "ready"}));
}
