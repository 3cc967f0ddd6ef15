//! What callers are told for everything an engine may say: the handlers against an engine that says what the test wants.

mod scripted;

use scripted::Service;
use serde_json::{Value, json};
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand, Frame, FrameSink};
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event, GenerationRequest, Refusal, RequestMetrics};

/// An HTTP answer: status, headers and body.
type Answer = JoinHandle<(u16, Option<String>, String)>;

impl Service {
    /// Sends a call.
    fn call(&self, path: &str, body: &Value) -> Answer {
        let call = reqwest::Client::new().post(format!("{}{path}", self.url)).json(body);
        tokio::spawn(async move {
            let answer = call.send().await.unwrap();
            let retry = answer.headers().get("retry-after");
            let retry = retry.map(|value| value.to_str().unwrap().to_owned());
            (answer.status().as_u16(), retry, answer.text().await.unwrap())
        })
    }

    fn chat(&self, stream: bool) -> Answer {
        self.call("/v1/chat/completions", &question(stream))
    }

    /// Waits for the next order.
    async fn order(&self) -> EngineCommand {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let next = self.orders.lock().unwrap().try_recv();
            match next {
                Ok(order) => return order,
                Err(_) => assert!(Instant::now() < deadline, "no order comes"),
            }
            tokio::task::yield_now().await;
        }
    }

    /// Waits for a call to be handed in, and accepts it.
    async fn accept(&self) -> (CallNumber, Vec<GenerationRequest>) {
        let EngineCommand::Submit { call, requests, .. } = self.order().await else {
            panic!("a call is cancelled before it is there");
        };
        self.edge.take(&mut Frame {
            answers: vec![(call, Ok(()))],
            ..Frame::default()
        });
        (call, requests)
    }

    fn tell(&self, call: CallNumber, events: Vec<Event>) {
        self.edge.take(&mut Frame {
            events: events.into_iter().map(|event| (call, event)).collect(),
            ..Frame::default()
        });
    }
}

fn question(stream: bool) -> Value {
    json!({"model": "pierdesk", "max_tokens": 40, "stream": stream, "temperature": 0,
        "messages": [{"role": "user", "content": "When is the last boat back on Sunday?"}]})
}

fn piece(choice: u32, text: &str) -> Event {
    Event::Piece(Piece {
        choice,
        text: text.into(),
        ids: [300].as_slice().into(),
        logprobs: Vec::new(),
    })
}

fn end(choice: u32, text: &str, reason: EndReason) -> Event {
    let metrics = RequestMetrics {
        prompt_tokens: 9,
        output_tokens: 2,
        ..RequestMetrics::default()
    };
    Event::Ended {
        choice,
        text: text.into(),
        reason,
        metrics: Box::new(metrics),
    }
}

fn error(text: &str) -> (String, String) {
    let last = text.split("\n\n").filter(|frame| !frame.is_empty()).last().unwrap();
    let answer: Value = serde_json::from_str(last.trim_start_matches("data: ")).unwrap();
    let field = |name: &str| answer["error"][name].as_str().unwrap_or_default().to_owned();
    (field("code"), field("message"))
}

#[tokio::test]
async fn pieces_and_ends_become_an_answer_whole_or_streamed() {
    let service = Service::start();
    for stream in [false, true] {
        let answer = service.chat(stream);
        let (call, _) = service.accept().await;
        service.tell(call, vec![Event::Admitted { choice: 0 }, piece(0, "At ")]);
        service.tell(call, vec![piece(0, "nine"), end(0, ".", EndReason::EndToken)]);
        let (status, _, text) = answer.await.unwrap();
        assert_eq!(status, 200);
        if stream {
            assert!(
                text.ends_with("data: [DONE]\n\n") && text.contains("\"finish_reason\":\"stop\""),
                "{text}"
            );
            assert!(text.find("At ").unwrap() < text.find("nine").unwrap());
        } else {
            let answer: Value = serde_json::from_str(&text).unwrap();
            assert_eq!(answer["choices"][0]["message"]["content"], "At nine.");
            assert_eq!(answer["usage"]["completion_tokens"], 2);
        }
    }
}

#[tokio::test]
async fn the_prompts_of_one_call_enter_together_and_their_choices_are_numbered_over_all() {
    let service = Service::start();
    let body = json!({"model": "pierdesk", "prompt": ["one", "two"], "n": 2, "max_tokens": 4});
    let answer = service.call("/v1/completions", &body);
    let (call, requests) = service.accept().await;
    assert_eq!(
        requests.iter().map(|request| request.choices).collect::<Vec<_>>(),
        [2, 2]
    );
    let ends = [3, 0, 2, 1].map(|choice| end(choice, &format!("answer {choice}"), EndReason::Length));
    service.tell(call, ends.into());
    let (status, _, text) = answer.await.unwrap();
    assert_eq!(status, 200);
    let answer: Value = serde_json::from_str(&text).unwrap();
    for choice in 0..4 {
        assert_eq!(answer["choices"][choice]["text"], format!("answer {choice}"));
        assert_eq!(answer["choices"][choice]["finish_reason"], "length");
    }
}

#[tokio::test]
async fn every_refusal_is_told_with_what_would_work() {
    let service = Service::start();
    let refusals = [
        (
            Refusal::QueueFull {
                depth: 4,
                retry_after: Duration::from_secs(7),
            },
            (429, Some("7"), "queue_full", "try again in 7 s"),
        ),
        (
            Refusal::TooLong {
                wanted: 400,
                limit: 256,
            },
            (400, None, "context_length_exceeded", "256"),
        ),
        (
            Refusal::Invalid("there is no token 9".into()),
            (400, None, "invalid_request", "there is no token 9"),
        ),
        (
            Refusal::Stopped("it broke".into()),
            (503, None, "engine_stopped", "it broke"),
        ),
    ];
    for (refusal, (status, retry, code, text)) in refusals {
        for stream in [false, true] {
            let answer = service.chat(stream);
            let EngineCommand::Submit { call, .. } = service.order().await else {
                panic!("a call is cancelled before it is there");
            };
            service.edge.take(&mut Frame {
                answers: vec![(call, Err(refusal.clone()))],
                ..Frame::default()
            });
            let (told, after, body) = answer.await.unwrap();
            let (code_told, message) = error(&body);
            assert_eq!(
                (told, after.as_deref(), code_told.as_str()),
                (status, retry, code),
                "{body}"
            );
            assert!(message.contains(text), "{message}");
        }
    }
}

#[tokio::test]
async fn a_completion_that_breaks_off_is_an_error_and_never_an_answer() {
    let service = Service::start();
    let reasons = [
        (EndReason::Cancelled, 500, "internal", "cancelled"),
        (EndReason::SlowReader, 500, "internal", "too slow"),
        (EndReason::NotFinite, 500, "not_finite", "not numbers"),
        (EndReason::QueueWait, 503, "queue_wait", "try again"),
    ];
    for (reason, refused, code, text) in reasons {
        for stream in [false, true] {
            let answer = service.chat(stream);
            let (call, _) = service.accept().await;
            service.tell(call, vec![piece(0, "At "), end(0, "", reason)]);
            let (status, _, body) = answer.await.unwrap();
            assert_eq!(status, if stream { 200 } else { refused }, "{body}");
            let (told, message) = error(&body);
            assert_eq!(told, code, "{body}");
            assert!(message.contains(text) && !body.contains("[DONE]"), "{body}");
        }
    }
}

#[tokio::test]
async fn an_engine_that_dies_or_goes_in_the_middle_of_an_answer_ends_it_with_an_error() {
    for (stream, dies) in [(false, true), (true, true), (false, false), (true, false)] {
        let service = Service::start();
        let answer = service.chat(stream);
        let (call, _) = service.accept().await;
        service.tell(call, vec![piece(0, "At ")]);
        if dies {
            service.edge.fail("it lost its memory");
        } else {
            service.edge.close();
        }
        let (status, _, body) = answer.await.unwrap();
        assert!(!body.contains("[DONE]") && !body.contains("\"stop\""), "{body}");
        assert_eq!(status < 400, stream, "{body}");
        let (_, message) = error(&body);
        assert!(!dies || message.contains("it lost its memory"), "{message}");
        if dies {
            let (status, _, body) = service.chat(stream).await.unwrap();
            assert_eq!((status, error(&body).0.as_str()), (503, "engine_stopped"));
        }
    }
}

#[tokio::test]
async fn a_caller_who_leaves_cancels_its_call() {
    let service = Service::start();
    for stream in [false, true] {
        let answer = service.chat(stream);
        let (call, _) = service.accept().await;
        service.tell(call, vec![piece(0, "At ")]);
        answer.abort();
        let wanted = EngineCommand::Cancel {
            call,
            reason: EndReason::Cancelled,
        };
        assert_eq!(service.order().await, wanted);
    }
}

#[tokio::test]
async fn a_reader_who_reads_nothing_is_ended_as_too_slow() {
    let service = Service::start();
    let call = reqwest::Client::new()
        .post(format!("{}/v1/chat/completions", service.url))
        .json(&question(true));
    let waiting = tokio::spawn(async move { call.send().await.unwrap() });
    let (call, _) = service.accept().await;
    service.tell(call, vec![Event::Admitted { choice: 0 }]);
    let _unread = waiting.await.unwrap();
    let text = "x".repeat(16 << 10);
    let wanted = EngineCommand::Cancel {
        call,
        reason: EndReason::SlowReader,
    };
    for told in 0.. {
        service.tell(call, vec![piece(0, &text)]);
        if let Ok(order) = service.orders.lock().unwrap().try_recv() {
            assert_eq!(order, wanted);
            break;
        }
        assert!(told < 100_000, "nobody notices");
        tokio::task::yield_now().await;
    }
}
