//! What does one caller's attack do to all others?
//!
//! Streams of others are measured in turns without and with each attack, seven times each, by `vastrelay load run`; meanwhile
//! health is asked for again and again. Prints for each attack the medians of the 99th percentile of the gaps between tokens,
//! their ratio and its spread, the largest gap, and the slowest answer of `/health/live`. The aims are at most three times the
//! gap without the attack, no gap above 250 ms, and health within 50 ms on an idle machine.
//!
//! `cargo bench -p vastrelay --bench attacks -- WORD` runs the attacks whose name has the word.

use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

const TURNS: usize = 7;
const MOST_RATIO: f64 = 3.0;
const MOST_GAP: f64 = 0.25;
const MOST_HEALTH: f64 = 0.05;

/// What a caller does again and again.
struct Attack {
    name: &'static str,
    /// Callers at the same time.
    callers: usize,
    once: fn(&str),
}

const ATTACKS: [Attack; 8] = [
    Attack {
        name: "prompts of 15 MB",
        callers: 3,
        once: |address| drop(post(address, "/v1/completions", &prompt_of(15 << 20))),
    },
    Attack {
        name: "a million prompts",
        callers: 2,
        once: |address| {
            let body = format!(
                "{{\"model\": \"pierdesk\", \"prompt\": [{}\"a\"]}}",
                "\"a\",".repeat(1_000_000)
            );
            drop(post(address, "/v1/completions", &body));
        },
    },
    Attack {
        name: "stop strings of 900 kB",
        callers: 2,
        once: |address| {
            let body = json!({"model": "pierdesk", "prompt": "a", "n": 15, "stop": vec!["x".repeat(900_000); 16]});
            drop(post(address, "/v1/completions", &body.to_string()));
        },
    },
    Attack {
        name: "answers of 300 MB",
        callers: 2,
        once: |address| {
            let prompts = vec!["When is the last boat back? ".repeat(400); 24];
            let body = json!({"model": "pierdesk", "prompt": prompts, "n": 16, "echo": true, "logprobs": 20});
            drop(post(address, "/v1/completions", &body.to_string()));
        },
    },
    Attack {
        name: "a template that doubles",
        callers: 1,
        once: |address| {
            let body = json!({"model": "hostile", "messages": [{"role": "user", "content": "a"}]});
            drop(post(address, "/v1/chat/completions", &body.to_string()));
        },
    },
    Attack {
        name: "load orders of 4,000,000,000 tokens",
        callers: 2,
        once: |address| {
            let body = json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": 1}, "span": {"requests": 1},
                "prompts": {"kind": "synthetic", "lengths": "4000000000"}});
            drop(post(address, "/manage/load", &body.to_string()));
        },
    },
    Attack {
        name: "metadata of 15 MB",
        callers: 2,
        once: |address| {
            let body = json!({"model": "none", "prompt": "a", "metadata": {"a": "x".repeat(15 << 20)}});
            drop(post(address, "/v1/completions", &body.to_string()));
        },
    },
    Attack {
        name: "bodies that do not come",
        callers: 50,
        once: |address| {
            let mut stream = TcpStream::connect(address).expect("the service listens");
            let head = "POST /v1/completions HTTP/1.1\r\nhost: localhost\r\ncontent-length: 15000000\r\n\r\n{";
            let _ = stream.write_all(head.as_bytes());
            thread::sleep(Duration::from_millis(100));
        },
    },
];

fn main() {
    let wanted = std::env::args()
        .skip(1)
        .find(|word| !word.starts_with('-'))
        .unwrap_or_default();
    let service = Service::start();
    println!(
        "{:<36} {:>10} {:>10} {:>6} {:>13} {:>10} {:>10}",
        "attack", "p99 gap", "attacked", "ratio", "spread", "largest", "health"
    );
    for attack in ATTACKS.iter().filter(|attack| attack.name.contains(&wanted)) {
        measure(&service, attack);
    }
}

/// Streams of others, measured once.
struct Measured {
    p99: f64,
    max: f64,
    health: f64,
}

fn measure(service: &Service, attack: &Attack) {
    let mut pairs = Vec::new();
    for _ in 0..TURNS {
        let alone = service.measure(|| ());
        let over = AtomicBool::new(false);
        let attacked = thread::scope(|scope| {
            for _ in 0..attack.callers {
                scope.spawn(|| {
                    while !over.load(Ordering::Acquire) {
                        (attack.once)(&service.address);
                    }
                });
            }
            service.measure(|| over.store(true, Ordering::Release))
        });
        pairs.push((alone, attacked));
    }
    let ms = |seconds: f64| format!("{:.2} ms", seconds * 1e3);
    let alone = median(pairs.iter().map(|(alone, _)| alone.p99));
    let attacked = median(pairs.iter().map(|(_, attacked)| attacked.p99));
    let mut ratios: Vec<f64> = pairs.iter().map(|(alone, attacked)| attacked.p99 / alone.p99).collect();
    ratios.sort_by(f64::total_cmp);
    let largest = pairs.iter().map(|(_, attacked)| attacked.max).fold(0.0, f64::max);
    let health = median(pairs.iter().map(|(_, attacked)| attacked.health));
    let ratio = ratios[TURNS / 2];
    let fine = ratio <= MOST_RATIO && largest <= MOST_GAP && health <= MOST_HEALTH;
    println!(
        "{:<36} {:>10} {:>10} {ratio:>6.2} {:>6.2}..{:>5.2} {:>10} {:>10}  {}",
        attack.name,
        ms(alone),
        ms(attacked),
        ratios[0],
        ratios[TURNS - 1],
        ms(largest),
        ms(health),
        if fine { "met" } else { "MISSED" }
    );
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// A running service with the demo model, and one whose template doubles a string forty times.
struct Service {
    child: Child,
    address: String,
    _data: tempfile::TempDir,
}

impl Service {
    fn start() -> Service {
        let data = tempfile::tempdir().expect("a folder");
        let hostile = data.path().join("hostile");
        copy(
            &Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1"),
            &hostile,
        );
        let template =
            "{% set ns = namespace(s='x') %}{% for i in range(40) %}{% set ns.s = ns.s ~ ns.s %}{% endfor %}";
        std::fs::write(hostile.join("chat_template.jinja"), template).expect("the folder can be written");
        let mut child = Command::new(env!("CARGO_BIN_EXE_vastrelay"))
            .args(["start", "--demo", "--listen", "127.0.0.1:0", "--model"])
            .arg(format!("hostile={}", hostile.display()))
            .arg("--data")
            .arg(data.path().join("data"))
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the service starts");
        let mut said = BufReader::new(child.stdout.take().expect("it is piped"));
        let mut line = String::new();
        while !line.starts_with("ready: http://") {
            line.clear();
            assert!(
                said.read_line(&mut line).expect("it can be read") > 0,
                "the service ended"
            );
        }
        thread::spawn(move || std::io::copy(&mut said, &mut std::io::sink()));
        let address = line["ready: http://".len()..]
            .split(' ')
            .next()
            .expect("an address")
            .to_owned();
        Service {
            child,
            address,
            _data: data,
        }
    }

    /// Measures streams of others, and how long health takes meanwhile.
    fn measure(&self, over: impl FnOnce()) -> Measured {
        let load = Command::new(env!("CARGO_BIN_EXE_vastrelay"))
            .args([
                "load",
                "run",
                "--model",
                "pierdesk",
                "--users",
                "4",
                "--duration",
                "2s",
                "--forget",
                "--json",
            ])
            .args(["--output", "200", "--force-length", "--url"])
            .arg(format!("http://{}", self.address))
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the load test starts");
        let ended = AtomicBool::new(false);
        thread::scope(|scope| {
            let health = scope.spawn(|| {
                let mut slowest = 0f64;
                while !ended.load(Ordering::Acquire) {
                    let begun = Instant::now();
                    drop(request(&self.address, "GET", "/health/live", ""));
                    slowest = slowest.max(begun.elapsed().as_secs_f64());
                    thread::sleep(Duration::from_millis(20));
                }
                slowest
            });
            let output = load.wait_with_output().expect("the load test ends");
            ended.store(true, Ordering::Release);
            over();
            let summary: Value = serde_json::from_slice(&output.stdout).expect("a summary");
            let figure = |name: &str| summary["itl"][name].as_f64().expect("the summary has it");
            Measured {
                p99: figure("p99"),
                max: figure("max"),
                health: health.join().expect("health does not panic"),
            }
        })
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir(to).expect("the folder can be made");
    for file in std::fs::read_dir(from).expect("the demo is there") {
        let file = file.expect("a file");
        std::fs::copy(file.path(), to.join(file.file_name())).expect("it can be copied");
    }
}

fn prompt_of(bytes: usize) -> String {
    json!({"model": "pierdesk", "prompt": "x ".repeat(bytes / 2)}).to_string()
}

fn post(address: &str, path: &str, body: &str) -> String {
    request(address, "POST", path, body)
}

fn request(address: &str, method: &str, path: &str, body: &str) -> String {
    let mut stream = TcpStream::connect(address).expect("the service listens");
    let length = body.len();
    let head =
        format!("{method} {path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n");
    let mut answer = String::new();
    if stream
        .write_all(head.as_bytes())
        .and_then(|()| stream.write_all(body.as_bytes()))
        .is_ok()
    {
        let _ = stream.read_to_string(&mut answer);
    }
    answer
}
