//! Random histories of real services with real workers: endpoints are deployed, changed, stopped, started, parked, removed and called while workers
//! and services are killed. Every answer is as it is alone, every endpoint comes to be what it is to be or says why not, and nothing is left behind.

use crate::deployed::{asked, client, refused, small, spec};
use crate::endure;
use crate::support::Service;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

const NAMES: [&str; 4] = ["desk", "dock", "pier", "tides"];
/// What endpoints are to be: small ones, changed ones, one that is parked soon, large ones of which not all have room.
const SPECS: [&str; 8] = [
    "",
    "batch.width = 3",
    "precision.weights = \"int8\"",
    "device.cores = 0.25",
    "device.cores = 1",
    "device.split = 2",
    "replicas.idle_after = \"300ms\"",
    "[memory]\nshare = 0.9\npages = 4000\n[batch]\nwidth = 64\n",
];
/// Memory and cores of the device.
const PART: &str = "name = \"cpu\"\nmemory = \"192 MiB\"\ncores = 2\n";
/// Callers at the same time.
const CALLERS: u64 = 3;

/// How somebody wants an endpoint to stand.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Wanted {
    Served,
    Stopped,
    Parked,
}

/// What endpoints are to be.
struct World {
    files: TempDir,
    kept: BTreeMap<&'static str, (Wanted, usize)>,
    draw: StdRng,
    acts: usize,
}

impl World {
    fn file(&self, name: &str, which: usize) -> String {
        spec(self.files.path(), name, &small(SPECS[which]))
    }

    /// Does something to an endpoint; what is refused says why and changes nothing.
    async fn act(&mut self, service: &Service) {
        self.acts += 1;
        let name = NAMES[self.draw.random_range(0..NAMES.len())];
        let which = self.draw.random_range(0..SPECS.len());
        let file = self.file(name, which);
        let pause = self.draw.random_bool(0.5).then_some("--with-pause");
        let (words, then) = match self.draw.random_range(0..10) {
            0..4 => {
                let words = ["endpoint", "deploy", &file].into_iter().chain(pause);
                (words.collect(), Some((Wanted::Served, which)))
            }
            4 => (vec!["endpoint", "stop", name], self.kept_as(name, Wanted::Stopped)),
            5 => (vec!["endpoint", "start", name], self.kept_as(name, Wanted::Served)),
            6 => (vec!["endpoint", "park", name], self.kept_as(name, Wanted::Parked)),
            7 => (vec!["endpoint", "remove", name], None),
            8 => (vec!["endpoint", "renew", name], self.kept.get(name).copied()),
            _ => return self.kill_worker(service).await,
        };
        let words: Vec<String> = words.into_iter().map(str::to_owned).collect();
        let command = service.client_later(&words.iter().map(String::as_str).collect::<Vec<_>>());
        let done = tokio::task::spawn_blocking(move || command.wait_with_output().unwrap()).await;
        let done = done.unwrap();
        if !done.status.success() {
            let said = String::from_utf8_lossy(&done.stderr).into_owned();
            assert!(said.contains("error: "), "{words:?}: {said}");
            return;
        }
        match then {
            Some(then) => drop(self.kept.insert(name, then)),
            None => drop(self.kept.remove(name)),
        }
    }

    fn kept_as(&self, name: &str, wanted: Wanted) -> Option<(Wanted, usize)> {
        self.kept.get(name).map(|(_, which)| (wanted, *which))
    }

    async fn kill_worker(&mut self, service: &Service) {
        let workers = service.workers();
        if !workers.is_empty() {
            service.kill_process(workers[self.draw.random_range(0..workers.len())]);
        }
    }

    /// Waits until every endpoint is what it is to be, or says why not.
    async fn comes_true(&self, service: &Service) {
        let mut last = String::new();
        let settled = async {
            loop {
                match self.differs(service).await {
                    None => return,
                    Some(difference) => last = difference,
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        };
        let waited = tokio::time::timeout(Duration::from_secs(60), settled).await;
        assert!(waited.is_ok(), "{last}; after {} acts: {:?}", self.acts, self.kept);
        self.adds_up(service).await;
    }

    /// Returns what is not as it is to be.
    async fn differs(&self, service: &Service) -> Option<String> {
        let status = service.get("/manage/status").await.1;
        let parts = ["endpoints", "resting"]
            .iter()
            .flat_map(|part| status[*part].as_array().unwrap());
        let listed: Vec<&Value> = parts.collect();
        for entry in &listed {
            let name = entry["name"].as_str().unwrap();
            if !self.kept.contains_key(name) {
                return Some(format!("`{name}` is there: {entry}"));
            }
        }
        for (name, (wanted, which)) in &self.kept {
            let Some(entry) = listed.iter().find(|entry| entry["name"] == *name) else {
                return Some(format!("`{name}` is not there"));
            };
            let (state, why) = (
                entry["state"].as_str().unwrap(),
                entry["why"].as_str().unwrap_or_default(),
            );
            let is_so = match (wanted, state) {
                (Wanted::Served, "ready") | (Wanted::Stopped, "stopped") | (Wanted::Parked, "parked") => true,
                // Somebody has called it since, or nobody has for long enough.
                (Wanted::Parked, "ready") => true,
                (Wanted::Served, "parked") => which == &6,
                // Its workers were killed too often; the next one is started after a while.
                (_, "failed") if entry["replicas"].is_array() => {
                    assert!(entry["replicas"][0]["failure"].is_string(), "{entry}");
                    false
                }
                // Only where there is really no room.
                (Wanted::Served, "failed") => {
                    assert!(!why.is_empty(), "{entry}");
                    !client(service, &["endpoint", "check", &self.file(name, *which)]).0
                }
                _ => false,
            };
            if !is_so {
                return Some(format!("`{name}` is to be {wanted:?} and is {state}: {why}"));
            }
        }
        None
    }

    /// Makes sure that memory adds up, and that nothing is left of what is not there any more.
    async fn adds_up(&self, service: &Service) {
        let devices = service.get("/manage/devices").await.1;
        let (cpu, place) = (&devices[0], &devices[0]["places"][0]);
        let sum_of = |owner: &Value| -> u64 {
            let parts = ["weights", "workspace", "process", "kv_reserved"];
            parts.iter().map(|part| owner[*part].as_u64().unwrap()).sum()
        };
        let owners: u64 = place["owners"].as_array().unwrap().iter().map(sum_of).sum();
        let rest: u64 = ["changing", "others", "free"]
            .iter()
            .map(|part| place[*part].as_u64().unwrap())
            .sum();
        assert_eq!(Some(owners + rest), cpu["memory"].as_u64(), "{place}");
        let status = service.get("/manage/status").await.1;
        let cores = status["endpoints"].as_array().unwrap().iter();
        let cores: f64 = cores
            .filter_map(|endpoint| endpoint["replicas"][0]["cores"].as_f64())
            .sum();
        assert!(cores <= 2.0 + 1e-9, "{cores} cores of 2: {status}");
        let builds = service.get("/manage/builds").await.1;
        let listed = builds.as_array().unwrap();
        // One without a user is of a deployment that came to nothing; it is there for the next try.
        let folders = std::fs::read_dir(service.data.path().join("builds")).unwrap().count();
        assert_eq!(folders, listed.len(), "{builds}");
    }
}

/// Calls endpoints at random until it is over; returns how many were answered and how many refused.
async fn call(service: &Service, alone: &[Value], seed: u64, over: &AtomicBool) -> (usize, usize) {
    let mut draw = StdRng::seed_from_u64(seed);
    let (mut answered, mut turned_away) = (0, 0);
    while !over.load(Ordering::Acquire) {
        let name = NAMES[draw.random_range(0..NAMES.len())];
        let response = service.send("/v1/chat/completions", &question(name)).await;
        let (status, comes_again) = (
            response.status().as_u16(),
            response.headers().contains_key("retry-after"),
        );
        let body: Value = response.json().await.unwrap();
        match status {
            200 => {
                assert!(alone.contains(&body["choices"]), "{name}: {body}");
                answered += 1;
            }
            404 => turned_away += 1,
            503 => {
                assert!(comes_again, "{body}");
                turned_away += 1;
            }
            _ => panic!("{status}: {body}"),
        }
        tokio::time::sleep(Duration::from_millis(draw.random_range(0..100))).await;
    }
    (answered, turned_away)
}

fn question(name: &str) -> Value {
    asked(name, json!({"temperature": 0, "max_tokens": 40}))
}

/// Returns what a deployment that nobody saw the end of came to: the spec that is kept.
async fn kept_of(service: &Service, name: &str) -> Option<usize> {
    let (status, detail) = service.get(&format!("/manage/endpoints/{name}")).await;
    let text = detail["spec"].as_str().filter(|_| status == 200)?;
    SPECS.iter().position(|rest| small(rest) == text)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn histories_of_real_workers_end_as_they_are_to_be() {
    let (seconds, seed) = (endure::asked("SECONDS", 15), endure::asked("SEED", 1));
    let mut world = World {
        files: TempDir::new().unwrap(),
        kept: BTreeMap::new(),
        draw: StdRng::seed_from_u64(seed),
        acts: 0,
    };
    let part = world.files.path().join("part.toml");
    std::fs::write(&part, PART).unwrap();
    let part = part.display().to_string();
    let words = ["--listen", "127.0.0.1:0", "--workers-stay", "60s", "--device", &part];
    let mut data = TempDir::new().unwrap();
    // What each precision, whole or in parts, says alone.
    let mut alone = Vec::new();
    for which in [0, 2, 5] {
        let service = Service::start_in(data, &words);
        let file = world.file("desk", which);
        crate::deployed::succeeded(&service, &["endpoint", "deploy", &file]);
        alone.push(service.post("/v1/chat/completions", &question("desk")).await.1["choices"].clone());
        crate::deployed::succeeded(&service, &["endpoint", "remove", "desk"]);
        data = service.kill();
    }
    let (begun, mut services, mut answered, mut turned_away) = (Instant::now(), 0, 0, 0);
    while begun.elapsed().as_secs() < seconds {
        let service = Service::start_in(data, &words);
        services += 1;
        for name in NAMES {
            // What was under way when the service was killed came to its end or did not.
            if let Some(which) = kept_of(&service, name).await {
                let wanted = world.kept.get(name).filter(|(_, before)| *before == which);
                let wanted = wanted.map_or(Wanted::Served, |(wanted, _)| *wanted);
                world.kept.insert(name, (wanted, which));
            }
        }
        let over = AtomicBool::new(false);
        let acts = async {
            for _ in 0..world.draw.random_range(3..10) {
                world.act(&service).await;
            }
            over.store(true, Ordering::Release);
        };
        let seeds = (0..CALLERS).map(|caller| seed * 1_000_000 + services * CALLERS + caller);
        let calls = futures_util::future::join_all(seeds.map(|seed| call(&service, &alone, seed, &over)));
        let ((), calls) = tokio::join!(acts, calls);
        answered += calls.iter().map(|(answered, _)| answered).sum::<usize>();
        turned_away += calls.iter().map(|(_, turned_away)| turned_away).sum::<usize>();
        world.comes_true(&service).await;
        refused(&service, &["endpoint", "stop", "nowhere"], &["nowhere"]);
        let name = NAMES[world.draw.random_range(0..NAMES.len())];
        let which = world.draw.random_range(0..SPECS.len());
        let file = world.file(name, which);
        let mut deploying = service.client_later(&["endpoint", "deploy", &file]);
        for _ in 0..world.draw.random_range(0..20_000) {
            tokio::task::yield_now().await;
        }
        data = service.kill();
        deploying.wait().unwrap();
    }
    let service = Service::start_in(data, &words);
    for name in NAMES {
        service.client(&["endpoint", "remove", name]);
    }
    world.kept.clear();
    world.comes_true(&service).await;
    while !service.workers().is_empty() {
        tokio::task::yield_now().await;
    }
    println!(
        "{} acts, {services} services killed, {answered} calls answered, {turned_away} turned away; seed {seed}",
        world.acts
    );
    assert!(answered > 0);
}
