//! Does a crowd leave the service standing? Ten times as many users as the batch is wide, two hundred readers who hardly read
//! and two thousand connections on which nothing is said, for five minutes, at a queue that holds a part of them.
//!
//! Prints how many answers were complete, how many were refused and how quickly, what else went wrong, and the resident
//! memory beside what was planned. The aims: no error but refusals, refusals within 50 ms at the 99th percentile, and memory
//! up to 256 MiB beyond the plan. `cargo bench -p vastrelay --bench crowd -- 30` takes thirty seconds.

mod serve;

use serde_json::Value;
use serve::Service;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

const IDLE: usize = 2_000;
const SLOW: usize = 200;
const WIDTH: &str = "16";
const USERS: &str = "160";

fn main() {
    let seconds = std::env::args()
        .skip(1)
        .find_map(|word| word.parse().ok())
        .unwrap_or(300u64);
    let folder = tempfile::tempdir().expect("a folder");
    let service = Service::start(folder, &["--width", WIDTH, "--queue-depth", "128"]);
    println!("width {WIDTH}, {USERS} users, {SLOW} slow readers, {IDLE} idle connections, {seconds} s");
    let over = AtomicBool::new(false);
    let (mut largest, begun) = (0, Instant::now());
    let figures = thread::scope(|scope| {
        let load = service.load(&["--users", USERS, "--duration", &format!("{seconds}s")]);
        scope.spawn(|| idle(&service.address, &over));
        for _ in 0..SLOW {
            scope.spawn(|| slow(&service.address, &over));
        }
        let ended = scope.spawn(|| {
            let figures = summary(load);
            over.store(true, Ordering::Release);
            figures
        });
        while !over.load(Ordering::Acquire) {
            largest = largest.max(service.resident());
            thread::sleep(Duration::from_millis(500));
        }
        ended.join().expect("the load test ends")
    });
    let status = service.request("GET", "/manage/status", "");
    let status: Value = serde_json::from_str(status.split("\r\n\r\n").nth(1).expect("a body")).expect("JSON");
    let reserved = &status["endpoints"][0]["replicas"][0]["memory"]["reserved"];
    let planned = reserved.as_u64().unwrap_or(0);
    let mib = |bytes: u64| bytes as f64 / f64::from(1 << 20);
    println!(
        "after {:.0} s: sent {}, answered {}, errors {}",
        begun.elapsed().as_secs_f64(),
        figures["sent"],
        figures["done"],
        figures["errors"]
    );
    println!(
        "refusals: p50 {} s, p99 {} s, max {} s",
        figures["refusal"]["p50"], figures["refusal"]["p99"], figures["refusal"]["max"]
    );
    println!(
        "resident memory: largest {:.1} MiB; planned {:.1} MiB + 256 MiB",
        mib(largest),
        mib(planned)
    );
}

fn summary(load: std::process::Child) -> Value {
    let output = load.wait_with_output().expect("the load test ends");
    serde_json::from_slice(&output.stdout).expect("a summary")
}

/// Keeps connections open on which nothing is said; those that are closed are opened again.
fn idle(address: &str, over: &AtomicBool) {
    let mut open: Vec<TcpStream> = Vec::new();
    while !over.load(Ordering::Acquire) {
        open.retain(|stream| {
            stream.set_nonblocking(true).is_ok()
                && stream
                    .peek(&mut [0])
                    .is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock)
        });
        while open.len() < IDLE && !over.load(Ordering::Acquire) {
            match TcpStream::connect(address) {
                Ok(stream) => open.push(stream),
                Err(_) => break,
            }
        }
        thread::sleep(Duration::from_millis(200));
    }
}

/// Asks for long streams and reads hardly anything of them.
fn slow(address: &str, over: &AtomicBool) {
    let body = r#"{"model": "pierdesk", "prompt": "Hi", "stream": true, "min_tokens": 400, "max_tokens": 400}"#;
    while !over.load(Ordering::Acquire) {
        let Ok(mut stream) = TcpStream::connect(address) else {
            continue;
        };
        let length = body.len();
        let head = format!(
            "POST /v1/completions HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n{body}"
        );
        let _ = stream.set_read_timeout(Some(Duration::from_secs(20)));
        let _ = stream.write_all(head.as_bytes());
        let mut few = [0; 16];
        while !over.load(Ordering::Acquire) && stream.read(&mut few).is_ok_and(|count| count > 0) {
            thread::sleep(Duration::from_secs(1));
        }
        // Who was refused comes back later, as anybody should.
        thread::sleep(Duration::from_secs(1));
    }
}
