//! What is kept of calls and loads, and what is told live, against an engine that answers everything alike.

mod scripted;

use reqwest::Response;
use scripted::Service;
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use vastrelay_engine::engine::frame::{EngineCommand, Frame, FrameSink};
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event};

/// A service whose engine answers every call with two words.
struct Answering {
    service: Arc<Service>,
    is_over: Arc<AtomicBool>,
    engine: Option<JoinHandle<()>>,
}

impl Answering {
    fn start() -> Answering {
        let service = Arc::new(Service::start());
        let is_over = Arc::new(AtomicBool::new(false));
        let (answering, until) = (service.clone(), is_over.clone());
        let engine = std::thread::spawn(move || {
            let orders = answering.orders.lock().unwrap();
            while !until.load(Ordering::Relaxed) {
                let Ok(EngineCommand::Submit { call, .. }) = orders.recv_timeout(Duration::from_millis(20)) else {
                    continue;
                };
                let piece = Event::Piece(Piece {
                    choice: 0,
                    text: "High tide".into(),
                    ids: [300, 301].as_slice().into(),
                    logprobs: Vec::new(),
                });
                let end = Event::Ended {
                    choice: 0,
                    text: ".".into(),
                    reason: EndReason::EndToken,
                    metrics: Box::default(),
                };
                answering.edge.take(&mut Frame {
                    answers: vec![(call, Ok(()))],
                    events: vec![(call, piece), (call, end)],
                    ..Frame::default()
                });
            }
        });
        Answering {
            service,
            is_over,
            engine: Some(engine),
        }
    }

    async fn open(&self, path: &str) -> Response {
        let call = reqwest::Client::new().get(format!("{}{path}", self.service.url));
        call.bearer_auth(&self.service.key).send().await.unwrap()
    }

    async fn get(&self, path: &str) -> Value {
        let answer = self.open(path).await;
        assert_eq!(answer.status(), 200, "{path}");
        answer.json().await.unwrap()
    }

    async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let call = reqwest::Client::new()
            .post(format!("{}{path}", self.service.url))
            .json(body);
        let call = match path.starts_with("/manage/") {
            true => call.bearer_auth(&self.service.key),
            false => call,
        };
        let answer = call.send().await.unwrap();
        (answer.status().as_u16(), answer.json().await.unwrap())
    }

    /// Waits until what an address tells is as wished.
    async fn until(&self, path: &str, wished: impl Fn(&Value) -> bool) -> Value {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let told = self.get(path).await;
            if wished(&told) {
                return told;
            }
            assert!(Instant::now() < deadline, "{path} never says so: {told}");
        }
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::Relaxed);
        let ended = self.engine.take().map(JoinHandle::join);
        assert!(std::thread::panicking() || ended.is_some_and(|ended| ended.is_ok()));
    }
}

fn question() -> Value {
    json!({"model": "pierdesk", "messages": [{"role": "user", "content": "When is high tide?"}]})
}

#[tokio::test]
async fn a_call_is_listed_and_shown_and_models_and_the_description_are_told() {
    let served = Answering::start();
    let (status, answer) = served.post("/v1/chat/completions", &question()).await;
    assert_eq!(
        (status, &answer["choices"][0]["message"]["content"]),
        (200, &json!("High tide."))
    );
    let listed = served.until("/manage/requests", |calls| !calls[0].is_null()).await;
    assert_eq!(
        (&listed[0]["endpoint"], &listed[0]["outcome"]),
        (&json!("pierdesk"), &json!("end-token"))
    );
    let shown = served
        .get(&format!("/manage/requests/{}", listed[0]["id"].as_str().unwrap()))
        .await;
    assert_eq!(shown["call"]["id"], listed[0]["id"]);
    assert_eq!(shown["call"]["output_tokens"], 2);
    let model = served.get("/v1/models/pierdesk").await;
    assert_eq!((&model["id"], &model["object"]), (&json!("pierdesk"), &json!("model")));
    let description = served.get("/openapi.json").await;
    assert!(description["paths"]["/manage/devices"]["get"].is_object());
}

#[tokio::test]
async fn the_live_stream_tells_the_status_and_each_call() {
    let served = Answering::start();
    let mut live = served.open("/manage/live").await;
    let mut heard = String::new();
    let mut hears = async |word: &str| {
        while !heard.contains(word) {
            heard.push_str(&String::from_utf8_lossy(
                &live.chunk().await.unwrap().expect("it goes on"),
            ));
        }
    };
    hears("event: status").await;
    served.post("/v1/chat/completions", &question()).await;
    hears("event: call").await;
}

#[tokio::test]
async fn a_load_is_sent_kept_reported_and_compared() {
    let served = Answering::start();
    let order = json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": 1}, "span": {"requests": 3},
        "prompts": {"kind": "set", "name": "questions"}, "warm_up": 0});
    let (status, begun) = served.post("/manage/load", &order).await;
    assert!(status < 300, "{begun}");
    let over = served
        .until("/manage/load", |load| {
            !load["run"].is_null() || !load["failure"].is_null()
        })
        .await;
    assert_eq!(
        (&over["failure"], &over["sent"], &over["errors"]),
        (&Value::Null, &json!(3), &json!(0))
    );
    let id = over["run"].as_str().unwrap();
    assert_eq!(served.get("/manage/runs").await[0]["id"], id);
    let entry = served.get(&format!("/manage/runs/{id}")).await;
    let run = &entry["run"];
    assert_eq!(run["summary"]["done"], 3);
    let page = served.open(&format!("/manage/runs/{id}/report?form=html")).await;
    assert_eq!(page.status(), 200);
    assert!(page.text().await.unwrap().contains("pierdesk"));
    let comparison = served.get(&format!("/manage/comparison?a={id}&b={id}")).await;
    assert!(!comparison["figures"].as_array().unwrap().is_empty());
    // What was read can be kept again, under another name.
    let mut again = entry.clone();
    again["id"] = json!("again");
    again["run"]["id"] = json!("again");
    let (status, kept) = served.post("/manage/runs", &again).await;
    assert!(status < 300, "{kept}");
    assert_eq!(served.get("/manage/runs").await.as_array().unwrap().len(), 2);
}
