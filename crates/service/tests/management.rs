//! The management API and the text calls, against an engine that says what the test wants.

mod scripted;

use reqwest::Method;
use scripted::Service;
use serde_json::{Value, json};
use vastrelay_engine::engine::frame::{EngineStatus, Frame, FrameSink};
use vastrelay_engine::scheduler::Occupancy;

impl Service {
    async fn call(&self, method: Method, path: &str, body: Option<Value>) -> (u16, Value) {
        let mut call = reqwest::Client::new().request(method, format!("{}{path}", self.url));
        if path.starts_with("/manage/") {
            call = call.bearer_auth(&self.key);
        }
        if let Some(body) = body {
            call = call.json(&body);
        }
        let answer = call.send().await.unwrap();
        let status = answer.status().as_u16();
        (status, answer.json().await.unwrap_or_default())
    }

    async fn get(&self, path: &str) -> (u16, Value) {
        self.call(Method::GET, path, None).await
    }

    async fn post(&self, path: &str, body: Value) -> (u16, Value) {
        self.call(Method::POST, path, Some(body)).await
    }

    /// Lets the engine say how it stands.
    fn state_of(&self, status: EngineStatus) {
        self.edge.take(&mut Frame {
            status,
            ..Frame::default()
        });
    }
}

fn message(answer: &Value) -> &str {
    answer["error"]["message"].as_str().unwrap()
}

#[tokio::test]
async fn status_metrics_and_health_tell_what_the_engine_says() {
    let service = Service::start();
    service.state_of(EngineStatus {
        occupancy: Occupancy {
            lanes_used: 3,
            queue_depth: 7,
            ..Occupancy::default()
        },
        output_tokens: 42,
        ..EngineStatus::default()
    });
    let (status, all) = service.get("/manage/status").await;
    let endpoint = &all["endpoints"][0];
    assert_eq!(
        (status, &all["state"], &endpoint["state"]),
        (200, &json!("ready"), &json!("ready"))
    );
    assert_eq!(
        (&endpoint["device"], &endpoint["simulated"]),
        (&json!("cpu"), &json!(false))
    );
    assert_eq!(
        (&endpoint["release"], &endpoint["replicas"][0]["replica"]),
        (&json!(1), &json!(1))
    );
    assert_eq!(
        (
            &endpoint["occupancy"]["lanes_used"],
            &endpoint["occupancy"]["queue_depth"]
        ),
        (&json!(3), &json!(7))
    );
    assert_eq!(endpoint["totals"]["output_tokens"], 42);
    let metrics = reqwest::get(format!("{}/metrics", service.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    let ours = "endpoint=\"pierdesk\",release=\"1\",device=\"cpu\",simulated=\"false\"";
    for line in [
        format!("vastrelay_output_tokens_total{{{ours}}} 42\n"),
        format!("vastrelay_queue_depth{{{ours}}} 7\n"),
    ] {
        assert!(metrics.contains(&line), "{line} in\n{metrics}");
    }
    assert!(
        !metrics
            .lines()
            .any(|line| line.contains("_bucket") && line.contains("replica=")),
        "histograms belong to releases"
    );
    for path in ["/health/live", "/health/ready", "/health/ready/pierdesk"] {
        assert_eq!(service.get(path).await.0, 200, "{path}");
    }
    service.edge.fail("it ran into a wall");
    let (status, ready) = service.get("/health/ready").await;
    assert_eq!(
        (status, &ready["state"], &ready["failed"]),
        (503, &json!("failed"), &json!(["pierdesk"]))
    );
    assert_eq!(service.get("/health/ready/pierdesk").await.0, 503);
    let status = service.get("/manage/status").await.1;
    assert_eq!(status["endpoints"][0]["replicas"][0]["failure"], "it ran into a wall");
    assert_eq!(service.get("/health/ready/none").await.0, 404);
}

#[tokio::test]
async fn devices_tell_who_holds_what_and_add_up() {
    let service = Service::start();
    service.state_of(EngineStatus {
        occupancy: Occupancy {
            pages_used: 2,
            ..Occupancy::default()
        },
        ..EngineStatus::default()
    });
    let (status, devices) = service.get("/manage/devices").await;
    let (device, place) = (&devices[0], &devices[0]["places"][0]);
    assert_eq!(
        (status, &device["name"], &device["memory"]),
        (200, &json!("cpu"), &json!(1 << 30))
    );
    let owner = &place["owners"][0];
    assert_eq!((&owner["endpoint"], &owner["release"]), (&json!("pierdesk"), &json!(1)));
    let bytes = |value: &Value| value.as_u64().unwrap();
    let used = bytes(&owner["kv_used"]);
    assert!(used > 0 && used < bytes(&owner["kv_reserved"]), "{owner}");
    let parts = ["weights", "workspace", "process", "kv_reserved"].map(|part| bytes(&owner[part]));
    let all = parts.iter().sum::<u64>() + bytes(&place["others"]) + bytes(&place["free"]);
    assert_eq!(all, bytes(&device["memory"]));
}

#[tokio::test]
async fn deploying_asks_for_a_name_and_a_model() {
    let service = Service::start();
    for (body, status, says) in [
        (json!({"name": "a b", "demo": true}), 400, "is not an endpoint name"),
        (json!({"name": "desk"}), 400, "send one of `spec`"),
        (
            json!({"name": "desk", "path": "x", "demo": true}),
            400,
            "send one of `spec`",
        ),
        (
            json!({"name": "desk", "path": "/no/such/folder"}),
            400,
            "`desk` cannot be served",
        ),
        (
            json!({"name": "pierdesk", "path": "/no/such/folder"}),
            400,
            "`pierdesk` cannot be served",
        ),
        (json!({"name": "desk", "demo": true}), 500, "there is no demo here"),
        (json!({"name": "desk", "shape": "round"}), 400, "shape"),
    ] {
        let (found, answer) = service.post("/manage/endpoints", body.clone()).await;
        assert_eq!(found, status, "{body}: {answer}");
        assert!(message(&answer).contains(says), "{body}: {answer}");
    }
}

#[tokio::test]
async fn texts_are_rendered_counted_encoded_and_decoded_without_the_engine() {
    let service = Service::start();
    let asked = json!({"model": "pierdesk", "messages": [{"role": "user", "content": "Hello"}]});
    let (status, rendered) = service.post("/text/render", asked.clone()).await;
    assert_eq!(status, 200);
    let ids = rendered["token_ids"].as_array().unwrap();
    let (_, encoded) = service.post("/text/encode", asked.clone()).await;
    assert_eq!(encoded["token_ids"].as_array().unwrap(), ids);
    let (_, counted) = service.post("/text/count", asked).await;
    assert_eq!(
        (&counted["tokens"], &counted["context"]),
        (&json!(ids.len()), &json!(256))
    );
    let (_, decoded) = service
        .post("/text/decode", json!({"model": "pierdesk", "token_ids": ids}))
        .await;
    assert_eq!(decoded["text"], rendered["text"]);
    for (path, body) in [
        ("/text/count", json!({"model": "none", "text": "Hello"})),
        ("/text/decode", json!({"model": "none", "token_ids": [1]})),
    ] {
        assert_eq!(service.post(path, body).await.0, 404, "{path}");
    }
    for (path, body) in [
        ("/text/encode", json!({"model": "pierdesk"})),
        (
            "/text/encode",
            json!({"model": "pierdesk", "text": "a", "messages": []}),
        ),
        ("/text/decode", json!({"model": "pierdesk", "token_ids": [2_000_000]})),
        ("/text/decode", json!({"model": "pierdesk", "token_ids": vec![1; 257]})),
        (
            "/text/count",
            json!({"model": "pierdesk", "text": "a ".repeat(100_000)}),
        ),
        ("/text/render", json!({"model": "pierdesk", "messages": []})),
    ] {
        assert_eq!(service.post(path, body).await.0, 400, "{path}");
    }
    assert!(
        service.orders.lock().unwrap().try_recv().is_err(),
        "the engine is asked nothing"
    );
}

#[tokio::test]
async fn keys_are_made_listed_and_revoked() {
    let service = Service::start();
    let (status, made) = service
        .post("/manage/keys", json!({"name": "desk", "scope": "use"}))
        .await;
    assert_eq!(status, 201);
    let id = made["entry"]["id"].as_str().unwrap();
    assert!(made["key"].as_str().unwrap().starts_with(&format!("vr-{id}-")));
    let listed = service.get("/manage/keys").await.1;
    assert_eq!(
        (&listed[1]["name"], &listed[1]["state"]),
        (&json!("desk"), &json!("valid"))
    );
    let (_, revoked) = service.call(Method::DELETE, &format!("/manage/keys/{id}"), None).await;
    assert_eq!(revoked["state"], "revoked");
    assert_eq!(service.call(Method::DELETE, "/manage/keys/none", None).await.0, 404);
    assert_eq!(service.post("/manage/keys", json!({"name": ""})).await.0, 400);
    assert_eq!(
        service
            .post("/manage/keys", json!({"name": "a", "scope": "all"}))
            .await
            .0,
        400
    );
}

#[tokio::test]
async fn what_is_not_kept_is_not_found_and_what_cannot_be_is_refused() {
    let service = Service::start();
    assert_eq!(service.get("/manage/load").await, (200, Value::Null));
    for (method, path) in [
        (Method::GET, "/manage/runs/none"),
        (Method::GET, "/manage/runs/none/report?form=html"),
        (Method::GET, "/manage/comparison?a=none&b=none"),
        (Method::GET, "/manage/requests/none"),
        (Method::GET, "/manage/endpoints/none/steps"),
        (Method::GET, "/manage/endpoints/pierdesk/steps?replica=7"),
        (Method::DELETE, "/manage/load"),
        (Method::GET, "/v1/models/none"),
    ] {
        let (status, answer) = service.call(method, path, None).await;
        assert_eq!(status, 404, "{path}: {answer}");
    }
    for path in [
        "/manage/runs/none/report?form=round",
        "/manage/requests?most=many",
        "/manage/endpoints/pierdesk/steps?after=x",
        "/manage/endpoints/pierdesk/history?seconds=-1",
        "/manage/comparison?a=none",
    ] {
        assert_eq!(service.get(path).await.0, 400, "{path}");
    }
    for body in [
        json!({"id": "a/b", "at_ms": 1, "run": {}}),
        json!({"id": "a", "at_ms": 1, "run": {}}),
        json!({"id": "a", "at_ms": 1, "run": {"form": 99}}),
    ] {
        let (status, answer) = service.post("/manage/runs", body.clone()).await;
        assert_eq!(status, 400, "{body}: {answer}");
    }
    let order = |model: &str, users: usize| {
        json!({"model": model, "arrival": {"kind": "closed", "users": users}, "span": {"requests": 1},
            "prompts": {"kind": "set", "name": "questions"}})
    };
    assert_eq!(service.post("/manage/load", order("none", 1)).await.0, 404);
    assert_eq!(service.post("/manage/load", order("pierdesk", 0)).await.0, 400);
    assert_eq!(service.get("/manage/runs").await, (200, json!([])));
    let (status, steps) = service.get("/manage/endpoints/pierdesk/steps").await;
    assert_eq!((status, &steps["steps"]), (200, &json!([])));
}
