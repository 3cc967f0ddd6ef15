//! What does one caller's attack do to all others?
//!
//! Streams of others are measured in turns without and with each attack, seven times each, by `vastrelay load run`; meanwhile
//! health is asked for again and again. Prints for each attack the medians of the 99th percentile of the gaps between tokens,
//! their ratio and its spread, the largest gap, and the slowest answer of `/health/live`. The aims are at most three times the
//! gap without the attack, no gap above 250 ms, and health within 50 ms on an idle machine.
//!
//! `cargo bench -p vastrelay --bench attacks -- WORD` runs the attacks whose name has the word.

mod serve;

use serde_json::{Value, json};
use serve::Service;
use std::io::Write;
use std::net::TcpStream;
use std::path::{Path, PathBuf};
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
    path: &'static str,
    /// Makes the body that each of them sends again and again; it is made before anything is measured.
    body: fn() -> String,
}

const ATTACKS: [Attack; 8] = [
    Attack {
        name: "prompts of 15 MB",
        callers: 3,
        path: "/v1/completions",
        body: || json!({"model": "pierdesk", "prompt": "x ".repeat(15 << 19)}).to_string(),
    },
    Attack {
        name: "a million prompts",
        callers: 2,
        path: "/v1/completions",
        body: || json!({"model": "pierdesk", "prompt": vec!["a"; 1_000_000]}).to_string(),
    },
    Attack {
        name: "stop strings of 900 kB",
        callers: 2,
        path: "/v1/completions",
        body: || {
            json!({"model": "pierdesk", "prompt": "a", "n": 15, "stop": vec!["x".repeat(900_000); 16]}).to_string()
        },
    },
    Attack {
        name: "answers of 300 MB",
        callers: 2,
        path: "/v1/completions",
        body: || {
            let prompts = vec!["When is the last boat back? ".repeat(400); 24];
            json!({"model": "pierdesk", "prompt": prompts, "n": 16, "echo": true, "logprobs": 20}).to_string()
        },
    },
    Attack {
        name: "a template that doubles",
        callers: 1,
        path: "/v1/chat/completions",
        body: || json!({"model": "hostile", "messages": [{"role": "user", "content": "a"}]}).to_string(),
    },
    Attack {
        name: "load orders of 4,000,000,000 tokens",
        callers: 2,
        path: "/manage/load",
        body: || {
            let order = json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": 1}, "span": {"requests": 1},
                "prompts": {"kind": "synthetic", "lengths": "4000000000"}});
            order.to_string()
        },
    },
    Attack {
        name: "metadata of 15 MB",
        callers: 2,
        path: "/v1/completions",
        body: || json!({"model": "none", "prompt": "a", "metadata": {"a": "x".repeat(15 << 20)}}).to_string(),
    },
    Attack {
        name: "bodies that do not come",
        callers: 50,
        path: "/v1/completions",
        body: String::new,
    },
];

impl Attack {
    fn once(&self, service: &Service, body: &str) {
        if !body.is_empty() {
            drop(service.request("POST", self.path, body));
            return;
        }
        let mut stream = TcpStream::connect(&service.address).expect("the service listens");
        let head = format!(
            "POST {} HTTP/1.1\r\nhost: localhost\r\ncontent-length: 15000000\r\n\r\n{{",
            self.path
        );
        let _ = stream.write_all(head.as_bytes());
        thread::sleep(Duration::from_millis(100));
    }
}

fn main() {
    let wanted = std::env::args()
        .skip(1)
        .find(|word| !word.starts_with('-'))
        .unwrap_or_default();
    let folder = tempfile::tempdir().expect("a folder");
    let hostile = format!("hostile={}", hostile(folder.path()).display());
    let service = Service::start(folder, &["--model", &hostile]);
    println!(
        "{:<36} {:>10} {:>10} {:>6} {:>13} {:>10} {:>10}",
        "attack", "p99 gap", "attacked", "ratio", "spread", "largest", "health"
    );
    for attack in ATTACKS.iter().filter(|attack| attack.name.contains(&wanted)) {
        measure(&service, attack);
    }
    println!(
        "resident memory after all of them: {:.1} MiB",
        service.resident() as f64 / f64::from(1 << 20)
    );
}

/// Streams of others, measured once.
struct Measured {
    p99: f64,
    max: f64,
    health: f64,
}

fn measure(service: &Service, attack: &Attack) {
    let body = (attack.body)();
    let mut pairs = Vec::new();
    for _ in 0..TURNS {
        let alone = sample(service, || ());
        let over = AtomicBool::new(false);
        let attacked = thread::scope(|scope| {
            for _ in 0..attack.callers {
                scope.spawn(|| {
                    while !over.load(Ordering::Acquire) {
                        attack.once(service, &body);
                    }
                });
            }
            sample(service, || over.store(true, Ordering::Release))
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

/// Measures streams of others, and how long health takes meanwhile.
fn sample(service: &Service, over: impl FnOnce()) -> Measured {
    let load = service.load(&["--users", "4", "--duration", "2s", "--output", "200", "--force-length"]);
    let ended = AtomicBool::new(false);
    thread::scope(|scope| {
        let health = scope.spawn(|| {
            let mut slowest = 0f64;
            while !ended.load(Ordering::Acquire) {
                let begun = Instant::now();
                drop(service.request("GET", "/health/live", ""));
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

/// Makes the demo model with a template that doubles a string forty times; returns its folder.
fn hostile(folder: &Path) -> PathBuf {
    let hostile = folder.join("hostile");
    copy(
        &Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1"),
        &hostile,
    );
    let template = "{% set ns = namespace(s='x') %}{% for i in range(40) %}{% set ns.s = ns.s ~ ns.s %}{% endfor %}";
    std::fs::write(hostile.join("chat_template.jinja"), template).expect("the folder can be written");
    hostile
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir(to).expect("the folder can be made");
    for file in std::fs::read_dir(from).expect("the demo is there") {
        let file = file.expect("a file");
        std::fs::copy(file.path(), to.join(file.file_name())).expect("it can be copied");
    }
}
