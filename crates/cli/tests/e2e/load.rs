//! Many at once, and what becomes of those who leave.

use crate::support::{Service, chat, frames, with};
use futures_util::StreamExt;
use futures_util::future::{Either, join_all, select};
use serde_json::{Value, json};
use std::pin::pin;

const QUESTIONS: [&str; 6] = [
    "When is the last boat back on Sunday?",
    "Timetable to Eddersay on Saturday?",
    "Can I bring my dog?",
    "How much is a return to Fennick?",
    "Who is the captain of the Lady Orla?",
    "How do I make quay soup?",
];

/// A request that goes on for a good while.
fn endless(question: &str) -> Value {
    with(
        chat(question),
        json!({"stream": true, "min_tokens": 1900, "max_tokens": 1900}),
    )
}

async fn streamed(service: &Service, question: &str) -> String {
    let body = service
        .send("/v1/chat/completions", &with(chat(question), json!({"stream": true})))
        .await
        .text()
        .await
        .unwrap();
    let frames = frames(&body);
    assert_eq!(frames.last().map(String::as_str), Some("[DONE]"), "{body}");
    frames
        .iter()
        .filter_map(|frame| serde_json::from_str::<Value>(frame).ok())
        .filter_map(|piece| piece["choices"][0]["delta"]["content"].as_str().map(str::to_owned))
        .collect()
}

#[tokio::test]
async fn two_hundred_streams_at_width_eight_all_end_complete_and_correct() {
    let service = Service::demo(&["--width", "8"]);
    let mut wanted = Vec::new();
    for question in QUESTIONS {
        wanted.push(service.ask(question).await);
    }
    let answers = join_all((0..200).map(|n| streamed(&service, QUESTIONS[n % QUESTIONS.len()]))).await;
    for (n, answer) in answers.iter().enumerate() {
        assert_eq!(*answer, wanted[n % QUESTIONS.len()]);
    }
    let model = service.endpoint().await;
    assert_eq!(
        (
            &model["occupancy"]["pages_used"],
            &model["occupancy"]["lanes_used"],
            &model["totals"]["ended"]
        ),
        (&json!(0), &json!(0), &json!(206))
    );
}

#[tokio::test]
async fn fifty_streams_dropped_midway_leave_no_page_in_use() {
    let service = Service::demo(&["--width", "8"]);
    let read = async |n| {
        let mut body = service.send("/v1/chat/completions", &chat_of(n)).await.bytes_stream();
        while body.next().await.is_some() {}
    };
    let streams = Box::pin(join_all((0..50).map(read)));
    let full = service.wait_for("a full batch and a queue", |m| {
        m["occupancy"]["lanes_used"] == 8 && m["occupancy"]["queue_depth"] == 42
    });
    let Either::Right(((), streams)) = select(streams, pin!(full)).await else {
        panic!("all of them have ended")
    };
    drop(streams);
    service
        .wait_for("everything given back", |m| {
            m["occupancy"]["pages_used"] == 0 && m["occupancy"]["lanes_used"] == 0 && m["occupancy"]["queue_depth"] == 0
        })
        .await;
    assert!(!service.ask("Can I bring my dog?").await.is_empty());
}

fn chat_of(n: usize) -> Value {
    endless(QUESTIONS[n % QUESTIONS.len()])
}

#[tokio::test]
async fn an_answer_awaited_whole_is_cancelled_with_its_connection_too() {
    let service = Service::demo(&["--width", "2"]);
    let whole = with(chat(QUESTIONS[0]), json!({"min_tokens": 1900, "max_tokens": 1900}));
    let request = service.send("/v1/chat/completions", &whole);
    let running = service.wait_for("it runs", |m| m["occupancy"]["lanes_used"] == 1);
    tokio::select! {
        _ = request => panic!("it ended before it could be dropped"),
        () = running => {}
    }
    service
        .wait_for("its pages are free", |m| {
            m["occupancy"]["pages_used"] == 0 && m["occupancy"]["lanes_used"] == 0
        })
        .await;
    assert!(
        service.endpoint().await["totals"]["output_tokens"].as_u64().unwrap() < 1900,
        "it ran to its end"
    );
}

#[tokio::test]
async fn a_full_queue_refuses_at_once_and_says_when_to_come_back() {
    let service = Service::demo(&["--width", "1", "--queue-depth", "2"]);
    let long = endless(QUESTIONS[0]);
    let mut held = Box::pin(join_all((0..3).map(|_| service.send("/v1/chat/completions", &long))));
    let full = service.wait_for("a full queue", |m| m["occupancy"]["queue_depth"] == 2);
    // Those that wait have no answer yet.
    let Either::Right(((), _)) = select(&mut held, pin!(full)).await else {
        panic!("all of them have lanes")
    };
    let response = service.send("/v1/chat/completions", &chat(QUESTIONS[0])).await;
    assert_eq!(response.status(), 429);
    assert!(
        response.headers()["retry-after"]
            .to_str()
            .unwrap()
            .parse::<u64>()
            .unwrap()
            >= 1
    );
    let answer: Value = response.json().await.unwrap();
    assert_eq!(
        (&answer["error"]["type"], &answer["error"]["code"]),
        (&json!("rate_limit_error"), &json!("queue_full"))
    );
    drop(held);
}

#[tokio::test]
async fn preemption_under_load_changes_no_answer() {
    let service = Service::demo(&["--width", "8", "--context", "256", "--pages", "24"]);
    let mut wanted = Vec::new();
    for question in QUESTIONS {
        wanted.push(service.ask(question).await);
    }
    // A busy machine may send so slowly that one round meets no shortage of pages.
    while service.endpoint().await["totals"]["preemptions"] == 0 {
        let answers = join_all((0..60).map(|n| streamed(&service, QUESTIONS[n % QUESTIONS.len()]))).await;
        for (n, answer) in answers.iter().enumerate() {
            assert_eq!(*answer, wanted[n % QUESTIONS.len()]);
        }
    }
}

#[tokio::test]
async fn steps_are_on_record() {
    let service = Service::demo(&[]);
    service.ask(QUESTIONS[2]).await;
    let (_, steps) = service.get("/manage/endpoints/pierdesk/steps?most=500").await;
    assert_eq!((&steps["endpoint"], &steps["replica"]), (&json!("pierdesk"), &json!(1)));
    let steps = steps["steps"].as_array().unwrap();
    assert_eq!(steps[0]["lanes"][0]["kind"], "prefill");
    assert!(
        steps[1..]
            .iter()
            .all(|step| step["lanes"][0]["kind"] == "decode" && step["lanes"][0]["tokens"] == 1)
    );
    let last = steps.last().unwrap()["number"].as_u64().unwrap();
    assert_eq!(last as usize, steps.len());
    assert_eq!(
        service
            .get(&format!("/manage/endpoints/pierdesk/steps?after={last}"))
            .await
            .1["steps"],
        json!([])
    );
    assert_eq!(service.get("/manage/endpoints/pierdesk/steps?replica=2").await.0, 404);
}

#[tokio::test]
async fn sigterm_lets_streams_end_refuses_new_calls_and_stops() {
    let service = Service::demo(&[]);
    let mut body = service
        .send("/v1/chat/completions", &endless(QUESTIONS[0]))
        .await
        .bytes_stream();
    body.next().await.unwrap().unwrap();
    service.signal("TERM");
    while service.get("/health/ready").await.0 != 503 {}
    let (status, refused) = service.post("/v1/chat/completions", &chat(QUESTIONS[0])).await;
    assert_eq!((status, &refused["error"]["code"]), (503, &json!("draining")));
    let said = "the service is shutting down; try again later, or on another service";
    assert_eq!(refused["error"]["message"], said);
    let mut rest = String::new();
    while let Some(chunk) = body.next().await {
        rest.push_str(&String::from_utf8_lossy(&chunk.unwrap()));
    }
    assert!(rest.ends_with("data: [DONE]\n\n"), "the stream was cut off");
    assert!(service.wait().success());
}

/// Sends a request over a connection that takes in little at a time, and reads nothing yet.
async fn open_narrow(service: &Service, body: &Value) -> tokio::net::TcpStream {
    use tokio::io::AsyncWriteExt;
    let address = service.url.trim_start_matches("http://");
    let socket = tokio::net::TcpSocket::new_v4().unwrap();
    socket.set_recv_buffer_size(4096).unwrap();
    let mut stream = socket.connect(address.parse().unwrap()).await.unwrap();
    let body = body.to_string();
    let head = format!(
        "POST /v1/chat/completions HTTP/1.1\r\nhost: {address}\r\ncontent-length: {}\r\n\r\n",
        body.len()
    );
    stream.write_all(format!("{head}{body}").as_bytes()).await.unwrap();
    stream
}

/// Reads until words have come; returns whether they came before the end.
async fn read_until(stream: &mut tokio::net::TcpStream, words: &str) -> bool {
    use tokio::io::AsyncReadExt;
    let (mut text, mut chunk) = (String::new(), [0; 65536]);
    loop {
        match stream.read(&mut chunk).await.unwrap() {
            0 => return false,
            count => text.push_str(&String::from_utf8_lossy(&chunk[..count])),
        }
        if text.contains(words) {
            return true;
        }
    }
}

#[tokio::test]
async fn a_slow_reader_is_ended_with_a_readable_error_and_holds_nobody_up() {
    let service = Service::demo(&["--width", "16"]);
    let much = json!({"n": 15, "temperature": 1.0, "include": ["token_ids"]});
    let mut slow = open_narrow(&service, &with(endless(QUESTIONS[0]), much)).await;
    // Others are served meanwhile.
    service.ask(QUESTIONS[2]).await;
    service
        .wait_for("the slow one is ended", |m| {
            m["occupancy"]["lanes_used"] == 0 && m["occupancy"]["queue_depth"] == 0 && m["totals"]["ended"] == 16
        })
        .await;
    assert!(
        service.endpoint().await["totals"]["output_tokens"].as_u64().unwrap() < 15 * 1500,
        "it was not ended early"
    );
    assert!(read_until(&mut slow, "reader was too slow").await);
    // It is on record once the connection is done with.
    while service.get("/manage/requests?outcome=slow-reader").await.1 == json!([]) {}
}

#[tokio::test]
async fn a_stream_that_waits_has_no_status_before_it_has_a_lane() {
    let service = Service::demo(&["--width", "1"]);
    let first = service.send("/v1/chat/completions", &endless(QUESTIONS[0])).await;
    let mut others = Box::pin(join_all((0..4).map(|_| streamed(&service, QUESTIONS[1]))));
    let waiting = service.wait_for("others wait", |m| m["occupancy"]["queue_depth"] == 4);
    let Either::Right(((), _)) = select(&mut others, pin!(waiting)).await else {
        panic!("they have lanes")
    };
    let mut alone = open_narrow(&service, &endless(QUESTIONS[0])).await;
    service
        .wait_for("one more waits", |m| m["occupancy"]["queue_depth"] == 5)
        .await;
    let mut head = [0; 1];
    assert_eq!(
        alone.try_read(&mut head).unwrap_err().kind(),
        std::io::ErrorKind::WouldBlock
    );
    drop(first);
    assert!(others.await.iter().all(|answer| !answer.is_empty()));
    assert!(read_until(&mut alone, "200 OK").await);
}
