//! What streaming through the service costs: an engine that costs nothing, against bare Actix sending the same frames.
//!
//! Both serve on two threads; the same readers read both, in turns. `cargo bench -p vastrelay-service --bench streaming`.

#[path = "../tests/scripted/mod.rs"]
mod scripted;

use actix_web::web::Bytes;
use actix_web::{App, HttpResponse, HttpServer, web};
use scripted::Service;
use serde_json::json;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::runtime::Runtime;
use tokio::sync::Barrier;
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand, Frame, FrameSink};
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event};

/// Tokens of each stream: a long answer.
const TOKENS: usize = 400;
/// Tokens of a measurement, at least: where streams are few, they are read again and again.
const MEASURED: usize = 200_000;
/// Alternations.
const ROUNDS: usize = 7;
/// Streams at once.
const STREAMS: [usize; 6] = [1, 16, 64, 128, 256, 512];
const THREADS: usize = 2;

fn main() {
    let service = Service::start();
    let runtime = Runtime::new().expect("a runtime for the readers");
    let address: SocketAddr = service.url.trim_start_matches("http://").parse().expect("an address");
    let frames = Arc::new(frames_of(&runtime, &service, address));
    println!(
        "{} frames of {} bytes in all, of each stream",
        frames.len(),
        frames.iter().map(Bytes::len).sum::<usize>()
    );
    let bare = start_bare(frames.clone());
    println!(
        "{:>8} {:>16} {:>16} {:>7}  range",
        "streams", "service", "bare Actix", "ratio"
    );
    for streams in STREAMS {
        let times = MEASURED.div_ceil(streams * TOKENS);
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        for round in 0..=ROUNDS {
            let through = (0..times).map(|_| through_service(&runtime, &service, address, streams));
            let through: Duration = through.sum();
            let straight: Duration = (0..times).map(|_| runtime.block_on(read_all(bare, streams))).sum();
            let rate = |took: Duration| (times * streams * TOKENS) as f64 / took.as_secs_f64();
            // The first round warms up.
            if round > 0 {
                ours.push(rate(through));
                theirs.push(rate(straight));
            }
        }
        let mut ratios: Vec<f64> = ours.iter().zip(&theirs).map(|(ours, theirs)| ours / theirs).collect();
        ratios.sort_by(f64::total_cmp);
        println!(
            "{streams:>8} {:>9.0} tokens/s {:>9.0} frames/s {:>5.2}  {:.2}–{:.2}",
            median(&mut ours),
            median(&mut theirs),
            ratios[ROUNDS / 2],
            ratios[0],
            ratios[ROUNDS - 1]
        );
    }
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

fn body() -> String {
    let messages = json!([{"role": "user", "content": "When is the last boat back on Sunday?"}]);
    json!({"model": "pierdesk", "max_tokens": 200, "stream": true, "messages": messages}).to_string()
}

/// Reads so many streams through the service; returns how long that took from the first token on.
fn through_service(runtime: &Runtime, service: &Service, address: SocketAddr, streams: usize) -> Duration {
    std::thread::scope(|scope| {
        let engine = scope.spawn(|| answer(service, streams));
        let ended = runtime.block_on(async {
            read_all(address, streams).await;
            Instant::now()
        });
        ended.duration_since(engine.join().expect("the engine answers"))
    })
}

/// Accepts so many calls and gives each its tokens, one for all of them at each step; returns when the first step was.
fn answer(service: &Service, streams: usize) -> Instant {
    let orders = service.orders.lock().expect("nobody else waits for orders");
    let mut calls: Vec<CallNumber> = Vec::new();
    while calls.len() < streams {
        if let EngineCommand::Submit { call, .. } = orders.recv().expect("the service lives") {
            calls.push(call);
            service.edge.take(&mut Frame {
                answers: vec![(call, Ok(()))],
                ..Frame::default()
            });
        }
    }
    let begun = Instant::now();
    let mut frame = Frame::default();
    for _ in 0..TOKENS {
        frame.events.extend(calls.iter().map(|call| {
            let piece = Piece {
                choice: 0,
                text: " tides".into(),
                ids: [300].as_slice().into(),
                logprobs: Vec::new(),
            };
            (*call, Event::Piece(piece))
        }));
        service.edge.take(&mut frame);
    }
    frame.events.extend(calls.iter().map(|call| {
        let ended = Event::Ended {
            choice: 0,
            text: ".".into(),
            reason: EndReason::Length,
            metrics: Box::default(),
        };
        (*call, ended)
    }));
    service.edge.take(&mut frame);
    begun
}

/// Returns the frames of one stream, as the service sends them.
fn frames_of(runtime: &Runtime, service: &Service, address: SocketAddr) -> Vec<Bytes> {
    let text = std::thread::scope(|scope| {
        scope.spawn(|| answer(service, 1));
        runtime.block_on(async {
            let answer = reqwest::Client::new()
                .post(format!("http://{address}/v1/chat/completions"))
                .body(body())
                .send();
            answer.await.expect("an answer").text().await.expect("its text")
        })
    });
    let frames = text.split_inclusive("\n\n").map(|frame| Bytes::from(frame.to_owned()));
    frames.collect()
}

/// Serves those frames with nothing around them.
fn start_bare(frames: Arc<Vec<Bytes>>) -> SocketAddr {
    let (sender, address) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        actix_web::rt::System::new().block_on(async move {
            let frames = web::Data::from(frames);
            let server =
                HttpServer::new(move || App::new().app_data(frames.clone()).default_service(web::to(send_bare)));
            let server = server.workers(THREADS).bind("127.0.0.1:0").expect("a free port");
            sender.send(server.addrs()[0]).expect("somebody waits");
            server.run().await.expect("it serves");
        });
    });
    address.recv().expect("it listens")
}

async fn send_bare(frames: web::Data<Vec<Bytes>>) -> HttpResponse {
    let all: Vec<Bytes> = frames.to_vec();
    let stream = futures_util::stream::iter(all.into_iter().map(Ok::<_, actix_web::Error>));
    HttpResponse::Ok().content_type("text/event-stream").streaming(stream)
}

/// Reads so many streams at once to their end; returns how long that took from the moment when all were connected.
async fn read_all(address: SocketAddr, streams: usize) -> Duration {
    let connected = Arc::new(Barrier::new(streams + 1));
    let bytes = Arc::new(AtomicUsize::new(0));
    let readers: Vec<_> = (0..streams)
        .map(|_| tokio::spawn(read(address, connected.clone(), bytes.clone())))
        .collect();
    connected.wait().await;
    let begun = Instant::now();
    for reader in readers {
        reader.await.expect("it reads to the end");
    }
    assert!(
        bytes.load(Ordering::Relaxed) > streams * TOKENS * 20,
        "streams are cut short"
    );
    begun.elapsed()
}

async fn read(address: SocketAddr, connected: Arc<Barrier>, bytes: Arc<AtomicUsize>) {
    let mut stream = TcpStream::connect(address).await.expect("it listens");
    let body = body();
    let head = format!(
        "POST /v1/chat/completions HTTP/1.1\r\nhost: {address}\r\ncontent-type: application/json\r\nconnection: close\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    );
    connected.wait().await;
    stream.write_all(head.as_bytes()).await.expect("it takes a request");
    let mut buffer = vec![0; 64 << 10];
    loop {
        match stream.read(&mut buffer).await.expect("it answers") {
            0 => return,
            count => bytes.fetch_add(count, Ordering::Relaxed),
        };
    }
}
