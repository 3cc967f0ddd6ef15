//! Do readers who hardly read hold others up? Streams of others are measured in turns, seven times each, without and with sixty-four
//! readers who have long answers waiting for them and take one byte a second.
//!
//! Prints the medians of the 99th percentile of the gaps between tokens, their ratio and its spread. The aim is a ratio of at most 1.1.

mod serve;

use serde_json::Value;
use serve::Service;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

const TURNS: usize = 7;
const READERS: usize = 64;
const MOST_RATIO: f64 = 1.1;
/// Time between two bytes.
const EVERY: Duration = Duration::from_secs(1);

fn main() {
    let folder = tempfile::tempdir().expect("a folder");
    let service = Service::start(folder, &["--width", "16"]);
    let mut pairs = Vec::new();
    for _ in 0..TURNS {
        let alone = sample(&service);
        let over = AtomicBool::new(false);
        let beside = thread::scope(|scope| {
            for _ in 0..READERS {
                scope.spawn(|| read_slowly(&service.address, &over));
            }
            wait_until_computed(&service);
            let beside = sample(&service);
            over.store(true, Ordering::Release);
            beside
        });
        pairs.push((alone, beside));
    }
    let mut ratios: Vec<f64> = pairs.iter().map(|(alone, beside)| beside / alone).collect();
    ratios.sort_by(f64::total_cmp);
    let ms = |seconds: f64| format!("{:.2} ms", seconds * 1e3);
    let ratio = ratios[TURNS / 2];
    println!(
        "p99 gap beside {READERS} slow readers: {}, without them {}; ratio {ratio:.2} ({:.2}..{:.2})  {}",
        ms(median(pairs.iter().map(|(_, beside)| *beside))),
        ms(median(pairs.iter().map(|(alone, _)| *alone))),
        ratios[0],
        ratios[TURNS - 1],
        if ratio <= MOST_RATIO { "met" } else { "MISSED" }
    );
    println!(
        "resident memory after all of them: {:.1} MiB",
        service.resident() as f64 / f64::from(1 << 20)
    );
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Returns the 99th percentile of the gaps of others' streams.
fn sample(service: &Service) -> f64 {
    let load = service.load(&["--users", "8", "--duration", "4s", "--output", "200", "--force-length"]);
    let output = load.wait_with_output().expect("the load test ends");
    let summary: Value = serde_json::from_slice(&output.stdout).expect("a summary");
    summary["itl"]["p99"].as_f64().expect("the summary has it")
}

/// Waits until the engine has computed all that the slow readers asked for.
fn wait_until_computed(service: &Service) {
    let mut begun = false;
    loop {
        let status = service.request("GET", "/manage/status", "");
        let status: Value = serde_json::from_str(status.split("\r\n\r\n").nth(1).expect("a body")).expect("JSON");
        let occupancy = &status["endpoints"][0]["occupancy"];
        let busy = occupancy["lanes_used"] != 0 || occupancy["queue_depth"] != 0;
        if begun && !busy {
            return;
        }
        begun |= busy;
        thread::sleep(Duration::from_millis(50));
    }
}

/// Asks for a stream and reads a byte of it each second.
fn read_slowly(address: &str, over: &AtomicBool) {
    let body = r#"{"model": "pierdesk", "prompt": "Hi", "stream": true, "min_tokens": 300, "max_tokens": 300}"#;
    let length = body.len();
    let head = format!(
        "POST /v1/completions HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n{body}"
    );
    let mut stream = TcpStream::connect(address).expect("the service listens");
    stream.write_all(head.as_bytes()).expect("the request is sent");
    let mut one = [0];
    while !over.load(Ordering::Acquire) && stream.read(&mut one).is_ok_and(|count| count > 0) {
        thread::sleep(EVERY);
    }
}
