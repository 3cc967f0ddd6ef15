//! Long runs in short: workers and services are killed at random, and nothing is lost. `cargo xtask endure` makes them long.

use crate::support::{Completion, Service, chat, frames, whole, with};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use tempfile::TempDir;

/// Bytes of the demo's weights.
const WEIGHTS: u64 = 4_500_000;
/// Callers at the same time.
const CALLERS: usize = 8;

/// Returns a number that somebody has asked for, or the usual one.
pub fn asked(name: &str, usual: u64) -> u64 {
    let asked = std::env::var(format!("ENDURE_{name}")).ok();
    asked.map_or(usual, |asked| asked.parse().expect("a number"))
}

/// Returns requests of many kinds, each with an answer that is always the same.
fn requests() -> Vec<Value> {
    let questions = [
        "When is the last boat back on Sunday?",
        "How much is a day ticket for a family?",
        "Can I bring my dog on board?",
        "Which pier does the boat to Skerrywick leave from?",
    ];
    let kinds = [
        json!({"temperature": 0, "max_tokens": 120, "min_tokens": 120}),
        json!({"temperature": 1, "seed": 11, "max_tokens": 200, "min_tokens": 60}),
        json!({"temperature": 1, "seed": 12, "n": 3, "max_tokens": 60, "min_tokens": 20, "presence_penalty": 0.4}),
        json!({"temperature": 0.8, "seed": 13, "logprobs": true, "top_logprobs": 2, "max_tokens": 80, "min_tokens": 40}),
        json!({"temperature": 0, "max_tokens": 1}),
    ];
    let all = questions
        .iter()
        .flat_map(|question| kinds.iter().map(|kind| with(chat(question), kind.clone())));
    all.collect()
}

/// What an answer says, without what depends on time.
#[derive(Debug, PartialEq)]
struct Said(Vec<Completion>);

/// Asks and returns what was said, streamed or not.
async fn ask(service: &Service, request: &Value, streamed: bool) -> Result<Said, String> {
    if !streamed {
        let (status, answer) = service.post("/v1/chat/completions", request).await;
        if status != 200 {
            return Err(answer.to_string());
        }
        let choices = answer["choices"].as_array().unwrap().iter();
        let said = choices.map(|choice| {
            let scores = choice["logprobs"]["content"].as_array().cloned().unwrap_or_default();
            let text = choice["message"]["content"].as_str().unwrap_or("").to_owned();
            (text, scores, choice["finish_reason"].clone())
        });
        return Ok(Said(said.collect()));
    }
    let request = with(request.clone(), json!({"stream": true}));
    let mut response = service.send("/v1/chat/completions", &request).await;
    let mut text = String::new();
    while let Some(bytes) = response.chunk().await.map_err(|error| error.to_string())? {
        text.push_str(std::str::from_utf8(&bytes).map_err(|error| error.to_string())?);
    }
    let frames = frames(&text);
    if frames.last().map(String::as_str) != Some("[DONE]") {
        return Err(text);
    }
    let frames = frames[..frames.len() - 1]
        .iter()
        .map(|frame| serde_json::from_str(frame));
    let frames: Vec<Value> = frames.collect::<Result<_, _>>().map_err(|error| error.to_string())?;
    // An error frame has no choices.
    match frames.iter().all(|frame| frame["choices"].is_array()) {
        true => Ok(Said(whole(&frames))),
        false => Err(text),
    }
}

/// Returns requests with what is said to them while nothing else is going on.
async fn alone(service: &Service) -> Vec<(Value, Said)> {
    let mut alone = Vec::new();
    for request in requests() {
        let said = ask(service, &request, false).await.unwrap();
        alone.push((request, said));
    }
    alone
}

/// Asks again and again until it is over; returns how many answers there were, and those that were not as they are alone.
async fn call(service: &Service, alone: &[(Value, Said)], seed: u64, over: &AtomicBool) -> (usize, Vec<String>) {
    let mut draw = StdRng::seed_from_u64(seed);
    let (mut count, mut wrong) = (0, Vec::new());
    while !over.load(Ordering::Relaxed) {
        let (request, expected) = &alone[draw.random_range(0..alone.len())];
        match ask(service, request, draw.random_bool(0.7)).await {
            Ok(said) if said == *expected => {}
            Ok(said) => wrong.push(format!("{request}: {said:?} instead of {expected:?}")),
            // Not accepted: three workers in a row were killed before they had a token.
            Err(error) if error.contains("endpoint_failed") => {
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
                continue;
            }
            Err(error) => wrong.push(format!("{request}: {error}")),
        }
        count += 1;
    }
    (count, wrong)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn workers_are_killed_at_random_and_every_answer_is_as_it_is_alone() {
    let (kills, seed) = (asked("COUNT", 25), asked("SEED", 1));
    let service = Service::demo(&["--width", "6"]);
    let alone = alone(&service).await;
    let (over, begun) = (AtomicBool::new(false), Instant::now());
    let calls = (0..CALLERS as u64).map(|caller| call(&service, &alone, seed * 1_000 + caller, &over));
    let calls = futures_util::future::join_all(calls);
    let killing = async {
        let mut draw = StdRng::seed_from_u64(seed);
        for _ in 0..kills {
            // Nine of ten after its first tokens, the others at whatever it is about.
            let tokens = if draw.random_bool(0.9) {
                draw.random_range(1..400)
            } else {
                0
            };
            let worker = service.any_worker().await;
            let has_said = |endpoint: &Value| {
                let replica = &endpoint["replicas"][0];
                replica["process"] == worker && replica["totals"]["output_tokens"].as_u64() >= Some(tokens)
            };
            if tokens > 0 {
                service.wait_for("it has said as much", has_said).await;
            }
            service.kill_process(worker);
            while service.has_process(worker) {
                tokio::task::yield_now().await;
            }
        }
        over.store(true, Ordering::Relaxed);
    };
    let (answers, ()) = tokio::join!(calls, killing);
    let count: usize = answers.iter().map(|(count, _)| count).sum();
    let wrong: Vec<&String> = answers.iter().flat_map(|(_, wrong)| wrong).collect();
    println!(
        "{kills} kills in {:.0} s, {count} answers, {} wrong; seed {seed}",
        begun.elapsed().as_secs_f64(),
        wrong.len()
    );
    assert!(wrong.is_empty(), "{} of {count}, such as {}", wrong.len(), wrong[0]);
    // Nothing is left: no lane, no page, no process, no socket.
    let worker = service.any_worker().await;
    service
        .wait_for("nothing is under way", |endpoint| {
            let occupancy = &endpoint["occupancy"];
            endpoint["state"] == "ready"
                && ["lanes_used", "queue_depth", "pages_used"]
                    .iter()
                    .all(|part| occupancy[*part] == 0)
        })
        .await;
    assert_eq!(service.workers(), [worker]);
    let mut left: Vec<_> = std::fs::read_dir(service.data.path().join("workers"))
        .unwrap()
        .collect();
    left.retain(|entry| entry.is_ok());
    assert_eq!(left.len(), 2, "a socket and a log: {left:?}");
    let metrics = service.text("/metrics").await;
    let moves = metrics
        .lines()
        .find(|line| line.starts_with("vastrelay_moves_total"))
        .unwrap();
    println!("{moves}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn memory_does_not_grow_under_the_same_load() {
    let (seconds, seed) = (asked("SECONDS", 12), asked("SEED", 1));
    let service = Service::demo(&["--width", "6"]);
    let alone = alone(&service).await;
    let over = AtomicBool::new(false);
    let calls = (0..CALLERS as u64).map(|caller| call(&service, &alone, seed * 1_000 + caller, &over));
    let calls = futures_util::future::join_all(calls);
    let processes = [service.process(), service.worker()];
    let looking = async {
        let half = std::time::Duration::from_secs(seconds) / 2;
        // The first half fills caches, rings and the database's own memory.
        tokio::time::sleep(half).await;
        let before = processes.map(|process| service.resident(process));
        tokio::time::sleep(half).await;
        over.store(true, Ordering::Relaxed);
        (before, processes.map(|process| service.resident(process)))
    };
    let (answers, (before, after)) = tokio::join!(calls, looking);
    let count: usize = answers.iter().map(|(count, _)| count).sum();
    println!("{count} answers; resident bytes of service and worker {before:?}, then {after:?}");
    for (_, wrong) in &answers {
        assert!(wrong.is_empty(), "{}", wrong[0]);
    }
    for (before, after) in before.into_iter().zip(after) {
        assert!(
            after <= before + before / 10 + (8 << 20),
            "{before} bytes, then {after}"
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn services_are_killed_at_random_and_the_next_one_takes_their_workers_over() {
    let (kills, seed) = (asked("COUNT", 4).min(50), asked("SEED", 1));
    let words = ["--demo", "--listen", "127.0.0.1:0", "--workers-stay", "60s"];
    let mut draw = StdRng::seed_from_u64(seed);
    let mut service = Service::start_in(TempDir::new().unwrap(), &words);
    let worker = service.any_worker().await;
    let mut read = service.bytes_read(worker);
    let mut slowest = 0.0f64;
    for number in 0..kills {
        let id = format!("endless-{number}");
        let endless = with(
            chat("When is the last boat back on Sunday?"),
            json!({"stream": true, "max_tokens": 1_900, "min_tokens": 1_900}),
        );
        let mut responses = Vec::new();
        for part in 0..3 {
            let mut response = service
                .send_named("/v1/chat/completions", &endless, &format!("{id}-{part}"))
                .await;
            response.chunk().await.unwrap();
            responses.push(response);
        }
        // Whoever lists calls waits until what came before is written.
        service.get("/manage/requests").await;
        for _ in 0..draw.random_range(0..200) {
            tokio::task::yield_now().await;
        }
        let data = service.kill();
        let begun = Instant::now();
        service = Service::start_in(data, &words);
        assert_eq!(service.get("/health/ready").await.0, 200);
        slowest = slowest.max(begun.elapsed().as_secs_f64());
        assert_eq!(
            service.workers(),
            Vec::<u32>::new(),
            "its worker is another one's child"
        );
        assert!(service.has_process(worker), "the worker is the same");
        for part in 0..3 {
            let (status, call) = service.get(&format!("/manage/requests/{id}-{part}")).await;
            assert_eq!(
                (status, &call["call"]["outcome"]),
                (200, &json!("interrupted")),
                "{call}"
            );
        }
        let before = std::mem::replace(&mut read, service.bytes_read(worker));
        assert!(
            read - before < WEIGHTS / 8,
            "weights were read again: {} bytes",
            read - before
        );
        assert!(!service.ask("When is the last boat back on Sunday?").await.is_empty());
    }
    println!("{kills} kills of the service; the slowest start took {slowest:.2} s; seed {seed}");
    service.signal("TERM");
    service.wait();
    while std::path::Path::new(&format!("/proc/{worker}")).exists() {
        tokio::task::yield_now().await;
    }
}

#[tokio::test]
async fn builds_are_killed_with_their_service_and_nothing_half_made_is_used() {
    let count = asked("COUNT", 2) as usize;
    let (files, model) = (
        TempDir::new().unwrap(),
        crate::taken::specimen(512, 8, 8, 4, 1536, 2_048),
    );
    let file = crate::deployed::spec(files.path(), "desk", &crate::jobs::large(&model));
    let data = crate::jobs::kill_while_building(TempDir::new().unwrap(), &file, count).await;
    let service = Service::start_in(data, &crate::deployed::LOOPBACK);
    crate::deployed::succeeded(&service, &["endpoint", "wait", "desk"]);
    crate::deployed::succeeded(&service, &["endpoint", "deploy", &file]);
    let made = crate::jobs::jobs(&service);
    assert_eq!((made.len(), &made[0]["state"]), (count + 1, &json!("done")));
    println!("{count} services were killed while they built");
}

/// Calls endpoints in turn until it is told to end; every answer is as it was alone, and whoever is refused is told when to come again. Returns
/// how many were answered and how many refused.
async fn call_until(
    service: &Service,
    endpoint: &str,
    alone: &[Said],
    over: &AtomicBool,
    pause: std::time::Duration,
) -> (usize, usize) {
    let (mut answered, mut refused) = (0, 0);
    for (number, expected) in alone.iter().enumerate().cycle() {
        if over.load(Ordering::Acquire) {
            break;
        }
        let request = with(requests()[number].clone(), json!({"model": endpoint}));
        if number % 2 == 0 {
            let response = service
                .send("/v1/chat/completions", &with(request, json!({"stream": true})))
                .await;
            if response.status() == 503 {
                assert!(response.headers().contains_key("retry-after"));
                refused += 1;
                continue;
            }
            let body = response.text().await.unwrap();
            let frames: Vec<Value> = frames(&body)
                .iter()
                .filter(|frame| *frame != "[DONE]")
                .map(|frame| serde_json::from_str(frame).unwrap())
                .collect();
            assert_eq!(Said(whole(&frames)), *expected, "{endpoint}: {number}");
        } else {
            match ask(service, &request, false).await {
                Ok(said) => assert_eq!(said, *expected, "{endpoint}: {number}"),
                Err(why) => {
                    assert!(why.contains("endpoint_stopped") || why.contains("starting"), "{why}");
                    refused += 1;
                    continue;
                }
            }
        }
        answered += 1;
        tokio::time::sleep(pause).await;
    }
    (answered, refused)
}

#[tokio::test]
async fn endpoints_change_stop_and_park_under_load_and_no_accepted_call_is_lost() {
    use crate::deployed::{small, spec, succeeded};
    use std::time::Duration;
    let (seconds, seed) = (asked("SECONDS", 4), asked("SEED", 1));
    let (files, service) = (TempDir::new().unwrap(), Service::start(&[]));
    let deploy = |name: &str, rest: &str| {
        let file = spec(files.path(), name, &small(rest));
        ["endpoint".to_owned(), "deploy".into(), file, "--json".into()]
    };
    for (name, rest) in [("desk", ""), ("dock", ""), ("tides", "replicas.idle_after = \"150ms\"")] {
        succeeded(&service, &deploy(name, rest).each_ref().map(String::as_str));
    }
    let mut alone = Vec::new();
    for request in requests() {
        alone.push(
            ask(&service, &with(request, json!({"model": "desk"})), false)
                .await
                .unwrap(),
        );
    }
    let over = AtomicBool::new(false);
    let act = async |words: &[&str]| {
        let command = service.client_later(words);
        let done = tokio::task::spawn_blocking(move || command.wait_with_output().unwrap()).await;
        let done = done.unwrap();
        assert!(
            done.status.success(),
            "{words:?}: {}",
            String::from_utf8_lossy(&done.stderr)
        );
    };
    let acts = async {
        let (mut random, begun) = (StdRng::seed_from_u64(seed), Instant::now());
        let mut acts = 0;
        while begun.elapsed().as_secs() < seconds {
            match random.random_range(0..3) {
                0 => {
                    let width = format!("batch.width = {}", random.random_range(2..9));
                    act(&deploy("desk", &width).each_ref().map(String::as_str)).await;
                }
                1 => {
                    act(&["endpoint", "stop", "dock"]).await;
                    act(&["endpoint", "start", "dock"]).await;
                }
                _ => tokio::time::sleep(Duration::from_millis(random.random_range(100..500))).await,
            }
            acts += 1;
        }
        over.store(true, Ordering::Release);
        acts
    };
    let none = Duration::ZERO;
    let calls = async {
        tokio::join!(
            call_until(&service, "desk", &alone, &over, none),
            call_until(&service, "desk", &alone, &over, none),
            call_until(&service, "dock", &alone, &over, none),
            // Longer than it takes to be parked.
            call_until(&service, "tides", &alone, &over, Duration::from_millis(600)),
        )
    };
    let (acts, (first, second, dock, tides)) = tokio::join!(acts, calls);
    let unparked = service.client_json(&["event", "list", "--what", "unparked", "--most", "10000"]);
    let unparked = unparked.as_array().unwrap().len();
    println!(
        "{acts} acts: desk answered {}, dock {} and refused {}, tides {} after {unparked} starts",
        first.0 + second.0,
        dock.0,
        dock.1,
        tides.0
    );
    assert_eq!((first.1, second.1, tides.1), (0, 0, 0));
    assert!(first.0 > 0 && dock.0 > 0 && tides.0 > 0 && unparked > 0);
}
