//! What can be changed and looked back at while the service runs: endpoints, load it sends itself, history.

use crate::support::{Service, chat, repository};
use reqwest::Method;
use serde_json::{Value, json};

fn message(answer: &Value) -> &str {
    answer["error"]["message"].as_str().unwrap()
}

#[tokio::test]
async fn a_service_without_endpoints_deploys_one_when_it_is_told_to() {
    let service = Service::start(&[]);
    assert!(
        service
            .greeting
            .contains("none yet; deploy one with `vastrelay endpoint deploy`"),
        "{}",
        service.greeting
    );
    let (status, refused) = service.post("/v1/chat/completions", &chat("Hello")).await;
    assert_eq!(status, 404);
    assert!(message(&refused).contains("models served here: none"), "{refused}");
    let (status, missing) = service
        .post(
            "/manage/endpoints?wait=120s",
            &json!({"name": "desk", "path": "/no/such/folder"}),
        )
        .await;
    assert_eq!(status, 400);
    assert!(message(&missing).starts_with("`desk` cannot be served: "), "{missing}");
    let (status, neither) = service
        .post("/manage/endpoints?wait=120s", &json!({"name": "desk"}))
        .await;
    assert_eq!(
        (status, message(&neither)),
        (
            400,
            "send one of `spec`, a TOML text; `path`, a folder of weights; `demo`: true; and `release`, an earlier one"
        )
    );
    let (status, nameless) = service
        .post("/manage/endpoints?wait=120s", &json!({"name": " ", "demo": true}))
        .await;
    assert_eq!(
        (status, message(&nameless)),
        (
            400,
            "` ` is not an endpoint name; use up to 100 letters, digits and - _ . @ /"
        )
    );

    let started = service.client(&["endpoint", "deploy", "--demo"]);
    assert!(String::from_utf8_lossy(&started.stdout).starts_with("deployed pierdesk: release 1 on cpu"));
    assert!(
        service
            .ask("When is the last boat back on Sunday?")
            .await
            .contains("18:00")
    );
    let folder = repository().join("demo/models/pierdesk-1");
    let words = ["endpoint", "deploy", &format!("second={}", folder.display()), "--json"];
    let second = service.client_json(&words[..3]);
    assert_eq!(
        (&second["name"], &second["occupancy"]["pages"]),
        (&json!("second"), &json!(4_096)),
        "it tells its pages before its first step"
    );
    // Other weights under the same name are another release.
    let (status, changed) = service
        .post("/manage/endpoints?wait=120s", &json!({"name": "second", "demo": true}))
        .await;
    assert_eq!((status, &changed["release"]), (201, &json!(2)), "{changed}");
    assert_eq!(service.get("/v1/models").await.1["data"].as_array().unwrap().len(), 2);
}

fn order(users: usize, span: Value) -> Value {
    json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": users}, "span": span,
        "prompts": {"kind": "set", "name": "questions"}})
}

/// Waits until no load test is under way; returns how the last one ended.
async fn load_ended(service: &Service) -> Value {
    loop {
        let status = service.get("/manage/load").await.1;
        if ["ended", "failed"].contains(&status["state"].as_str().unwrap()) {
            return status;
        }
    }
}

#[tokio::test]
async fn load_that_the_service_sends_itself_is_measured_kept_compared_and_stopped() {
    let service = Service::demo(&[]);
    assert_eq!(service.get("/manage/load").await, (200, Value::Null));
    let (status, begun) = service.post("/manage/load", &order(2, json!({"requests": 12}))).await;
    assert_eq!((status, &begun["name"]), (202, &json!("pierdesk closed, 2 users")));
    let ended = load_ended(&service).await;
    assert_eq!(
        (&ended["state"], &ended["part"]),
        (&json!("ended"), &json!(1.0)),
        "{ended}"
    );
    let run = ended["run"].as_str().unwrap();
    let short = service.get("/manage/runs?short=true").await.1;
    assert_eq!(
        (&short[0]["id"], &short[0]["run"]["summary"]["done"]),
        (&json!(run), &json!(12))
    );
    assert!(short[0]["run"].get("requests").is_none());
    let whole = service.get(&format!("/manage/runs/{run}")).await.1;
    assert_eq!(whole["run"]["requests"].as_array().unwrap().len(), 12);
    let get = async |path: &str| {
        let answer = service.call(Method::GET, path).send().await.unwrap();
        answer.error_for_status().unwrap().text().await.unwrap()
    };
    assert!(
        get(&format!("/manage/runs/{run}/report?form=html"))
            .await
            .contains("<svg")
    );
    assert_eq!(
        get(&format!("/manage/runs/{run}/report?form=csv"))
            .await
            .lines()
            .count(),
        1 + 12
    );
    let (status, compared) = service.get(&format!("/manage/comparison?a={run}&b={run}")).await;
    assert_eq!((status, &compared["figures"][0]["ratio"]), (200, &json!(1.0)));
    let (status, none) = service.get("/manage/comparison?a=none&b=none").await;
    assert_eq!(
        (status, message(&none)),
        (404, "there is no run `none`; GET /manage/runs lists all runs")
    );

    // One that would go on for ten minutes.
    let (status, _) = service.post("/manage/load", &order(2, json!({"seconds": 600}))).await;
    assert_eq!(status, 202);
    let (status, second) = service.post("/manage/load", &order(1, json!({"requests": 1}))).await;
    assert_eq!((status, &second["error"]["code"]), (409, &json!("load_under_way")));
    assert!(message(&second).contains("DELETE /manage/load ends it"), "{second}");
    while service.get("/manage/load").await.1["ended"].as_u64().unwrap() < 5 {}
    let stop = async || {
        let stopping = service.call(Method::DELETE, "/manage/load");
        stopping.send().await.unwrap()
    };
    assert_eq!(stop().await.status().as_u16(), 200);
    let ended = load_ended(&service).await;
    let kept = service
        .get(&format!("/manage/runs/{}", ended["run"].as_str().unwrap()))
        .await
        .1;
    assert_eq!(kept["run"]["stopped_early"], true);
    let nothing = stop().await;
    assert_eq!(nothing.status().as_u16(), 404);
    assert_eq!(message(&nothing.json().await.unwrap()), "no load test is under way");

    for (wrong, words) in [
        (
            json!({"prompts": {"kind": "set", "name": "riddles"}}),
            "use questions or follow-ups",
        ),
        (json!({"output": "long"}), "64..256"),
        (
            json!({"arrival": {"kind": "closed", "users": 0}}),
            "use 1 to 10,000 users",
        ),
    ] {
        let order = crate::support::with(order(1, json!({"requests": 1})), wrong);
        let (status, refused) = service.post("/manage/load", &order).await;
        assert_eq!(status, 400);
        assert!(message(&refused).contains(words), "{refused}");
    }
}

#[tokio::test]
async fn where_keys_are_wanted_load_goes_out_with_the_key_of_who_ordered_it() {
    let data = tempfile::tempdir().unwrap();
    let folder = data.path().to_str().unwrap().to_owned();
    let made = crate::support::vastrelay()
        .args(["key", "create", "--name", "ops", "--scope", "manage", "--data", &folder])
        .output()
        .unwrap();
    let words = ["--demo", "--listen", "127.0.0.1:0", "--require-key"];
    let mut service = Service::start_in(data, &words);
    service.key = Some(String::from_utf8(made.stdout).unwrap().trim().to_owned());
    service.post("/manage/load", &order(2, json!({"requests": 6}))).await;
    assert_eq!(load_ended(&service).await["errors"], 0);
    let calls = service.get("/manage/requests?caller=ops").await.1;
    assert_eq!(calls.as_array().unwrap().len(), 6 + 2, "two to warm up");
}

#[tokio::test]
async fn what_a_model_was_like_can_be_looked_back_at() {
    let service = Service::demo(&[]);
    let path = "/manage/endpoints/pierdesk/history?seconds=600";
    let busy = |point: &Value| point["answered"].as_u64() > Some(0) && point["output_rate"].as_f64().unwrap() > 0.0;
    let history = loop {
        // One of them may end where a point does.
        service.ask("When is the last boat back on Sunday?").await;
        let (status, history) = service.get(path).await;
        assert_eq!((status, &history["span"]), (200, &json!(5)));
        if history["points"].as_array().unwrap().iter().any(busy) {
            break history;
        }
    };
    let point = history["points"]
        .as_array()
        .unwrap()
        .iter()
        .find(|point| busy(point))
        .unwrap();
    assert_eq!(point["at_ms"].as_i64().unwrap() % 5000, 0);
    let ttft = point["ttft"].as_array().unwrap();
    assert!(
        ttft[0].as_f64().unwrap() > 0.0 && ttft[2].as_f64() >= ttft[0].as_f64(),
        "{point}"
    );
    let day = service.get("/manage/endpoints/pierdesk/history?seconds=86400").await.1;
    assert_eq!(day["span"], 60);
    assert_eq!(service.get("/manage/endpoints/none/history").await.0, 404);
}

#[tokio::test]
async fn only_runs_that_can_be_read_again_are_kept() {
    let service = Service::demo(&[]);
    let entry = json!({"id": "mine", "at_ms": 1, "run": {"form": 1}});
    let (status, refused) = service.post("/manage/runs", &entry).await;
    assert_eq!((status, &refused["error"]["param"]), (400, &json!("run")));
    assert!(
        message(&refused).contains("not a load test that this version can read: missing field"),
        "{refused}"
    );
    // One of another version may have been kept before.
    let database = rusqlite::Connection::open(service.data.path().join("vastrelay.sqlite")).unwrap();
    database
        .execute("INSERT INTO runs (id, at_ms, document) VALUES ('old', 1, '{}')", [])
        .unwrap();
    let (status, refused) = service.get("/manage/runs/old/report?form=csv").await;
    assert_eq!((status, &refused["error"]["code"]), (409, &json!("unreadable_run")));
    assert!(
        message(&refused).starts_with("the run `old` was made by another version and cannot be read: "),
        "{refused}"
    );
}

#[tokio::test]
async fn a_release_outlives_restarts_and_another_setting_makes_another() {
    let numbers = async |service: &Service| {
        let endpoint = service.endpoint().await;
        (
            endpoint["release"].as_u64().unwrap(),
            endpoint["replicas"][0]["incarnation"].as_u64().unwrap(),
        )
    };
    let start = |data, width| {
        let words = ["--demo", "--listen", "127.0.0.1:0", "--width", width];
        Service::start_in(data, &words)
    };
    let service = start(tempfile::tempdir().unwrap(), "4");
    assert_eq!(numbers(&service).await, (1, 1));
    let service = start(service.kill(), "4");
    assert_eq!(numbers(&service).await, (1, 2), "the same release in another life");
    let service = start(service.kill(), "8");
    assert_eq!(numbers(&service).await, (2, 3));
    service.ask("Hello").await;
    let call = service.get("/manage/requests?most=1").await.1[0].clone();
    assert_eq!(
        json!([call["release"], call["replica"], call["incarnation"]]),
        json!([2, 1, 3])
    );
}

/// Begins a long load test of a name and waits until some of its calls have ended.
pub async fn begin_load(service: &Service, name: &str) {
    let order = json!({"model": "pierdesk", "name": name, "arrival": {"kind": "closed", "users": 2},
        "span": {"seconds": 600}, "prompts": {"kind": "set", "name": "questions"}});
    assert_eq!(service.post("/manage/load", &order).await.0, 202);
    while service.get("/manage/load").await.1["ended"].as_u64().unwrap_or(0) < 5 {}
}

#[tokio::test]
async fn a_load_test_ends_with_the_endpoint_it_was_sent_to_and_keeps_what_it_has() {
    let service = Service::demo(&[]);
    begin_load(&service, "cut").await;
    assert_eq!(
        service
            .post("/manage/endpoints/pierdesk/stop?wait=120s", &json!({"within": 60}))
            .await
            .0,
        200
    );
    let ended = load_ended(&service).await;
    let why = ended["failure"].as_str().unwrap();
    assert!(why.contains("stopped it at"), "{ended}");
    let kept = service
        .get(&format!("/manage/runs/{}", ended["run"].as_str().unwrap()))
        .await
        .1;
    assert!(kept["run"]["requests"].as_array().unwrap().len() >= 5, "{kept}");
    assert!(kept["run"]["ended_because"].as_str().unwrap().contains("stopped"));
}

#[tokio::test]
async fn a_service_that_drains_ends_its_own_load_test_and_saves_it() {
    let service = Service::demo(&[]);
    begin_load(&service, "last").await;
    service.signal("TERM");
    let service = service.ended();
    let service = Service::start_in(service, &["--listen", "127.0.0.1:0"]);
    let runs = service.get("/manage/runs?short=true").await.1;
    assert_eq!(
        (&runs[0]["run"]["name"], &runs[0]["run"]["stopped_early"]),
        (&json!("last"), &json!(true)),
        "{runs}"
    );
}

#[tokio::test]
async fn the_history_of_a_parked_endpoint_is_shown_and_checking_a_spec_adds_no_devices() {
    let service = Service::demo(&[]);
    let spec = format!(
        "model = {:?}\n[device]\nprofile = \"sim-24g\"\n",
        repository().join("demo/models/pierdesk-1").display().to_string()
    );
    let body = json!({"name": "far", "spec": spec, "beside": "/"});
    assert_eq!(service.post("/manage/check", &body).await.0, 200);
    let names = async || -> Vec<String> {
        let devices = service.get("/manage/devices").await.1;
        devices
            .as_array()
            .unwrap()
            .iter()
            .map(|device| device["name"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(names().await, ["cpu"]);
    assert_eq!(service.post("/manage/endpoints?wait=120s", &body).await.0, 201);
    assert_eq!(names().await, ["cpu", "sim-24g"]);
    assert_eq!(
        service
            .post("/manage/endpoints/far/park?wait=120s", &json!({"within": 0}))
            .await
            .0,
        200
    );
    assert_eq!(service.get("/manage/endpoints/far/history?seconds=60").await.0, 200);
    while names().await != ["cpu"] {}
}
