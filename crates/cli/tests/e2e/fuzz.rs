//! Whole HTTP requests made from the service's own description, and spoilt: none may break it.
//!
//! A minute of them runs with the other tests. `VASTRELAY_FUZZ_SECONDS=1800 cargo test -p vastrelay --test e2e fuzz` runs
//! longer, and then compares the memory of the last minute with that of the fifth.

use crate::raw::Raw;
use crate::support::Service;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Callers at the same time.
const CALLERS: u64 = 6;
/// The longest sequence, in tokens.
const CONTEXT: usize = 512;
/// Most sequences in the batch.
const WIDTH: usize = 4;
/// Tokens of a prompt that fills the cache.
const PROMPT: usize = 500;
/// Why a request may be answered with 503, by the reference.
const UNAVAILABLE: [&str; 8] = [
    "draining",
    "engine_stopped",
    "keys_unavailable",
    "database_busy",
    "text_threads_full",
    "too_many_bodies",
    "too_many_answers",
    "too_many_connections",
];

/// Makes requests from a description.
struct Fuzzer<'a> {
    document: &'a Value,
    random: StdRng,
}

impl Fuzzer<'_> {
    fn chance(&mut self, share: f64) -> bool {
        self.random.random_bool(share)
    }

    fn request(&mut self) -> Vec<u8> {
        let paths: Vec<(&String, &Value)> = self.document["paths"].as_object().unwrap().iter().collect();
        let (pattern, item) = *paths.choose(&mut self.random).unwrap();
        let methods: Vec<&String> = item.as_object().unwrap().keys().collect();
        let method = (*methods.choose(&mut self.random).unwrap()).clone();
        let operation = &item[&method];
        let method = match self.random.random_range(0..40) {
            0 => "BREW".to_owned(),
            1 => "HEAD".to_owned(),
            2 => "POST".to_owned(),
            _ => method.to_uppercase(),
        };
        let target = self.target(pattern, &method, operation);
        let schema = &operation["requestBody"]["content"]["application/json"]["schema"];
        let body = match schema.is_null() {
            true => Vec::new(),
            false => self.body(schema),
        };
        let headers = self.headers(&body);
        let mut request = format!("{method} {target} HTTP/1.1\r\n{headers}\r\n").into_bytes();
        request.extend(body);
        if self.chance(0.1) {
            self.spoil(&mut request);
        }
        request
    }

    fn target(&mut self, pattern: &str, method: &str, operation: &Value) -> String {
        // The only model stays.
        let names: &[&str] = match method {
            _ if method == "DELETE" || pattern.ends_with("/stop") => &["none", "0", "%00"],
            _ => &["pierdesk", "none", "0", "%ff", "..", "a%2fb", "%1b%5b2J"],
        };
        let name = *names.choose(&mut self.random).unwrap();
        let mut target = pattern.replace("{name}", name).replace("{id}", name);
        let parameters: Vec<String> = operation["parameters"]
            .as_array()
            .into_iter()
            .flatten()
            .filter(|parameter| parameter["in"] == "query")
            .map(|parameter| parameter["name"].as_str().unwrap().to_owned())
            .collect();
        let mut sign = '?';
        for parameter in parameters {
            if self.chance(0.4) {
                let values = [
                    "0",
                    "1",
                    "true",
                    "html",
                    "csv",
                    "-1",
                    "1e308",
                    "NaN",
                    "99999999999999999999",
                    "%00",
                    "pierdesk",
                ];
                let value = values.choose(&mut self.random).unwrap();
                target.push_str(&format!("{sign}{parameter}={value}"));
                sign = '&';
            }
        }
        if self.chance(0.03) {
            target = target.replacen(
                '/',
                ["//", "/./", "/%2e%2e/", "/\u{7f}"].choose(&mut self.random).unwrap(),
                1,
            );
        }
        target
    }

    fn headers(&mut self, body: &[u8]) -> String {
        let mut lines = vec!["host: localhost".to_owned(), "connection: close".to_owned()];
        let odd = [
            "authorization: Bearer vr-00000000-00",
            "authorization: Basic eA==",
            "origin: http://elsewhere.example",
            "accept-encoding: gzip",
            "content-type: text/plain",
            "content-encoding: gzip",
            "expect: 100-continue",
            "x-request-id: a b\u{1b}",
            "range: bytes=0-1",
            "upgrade: websocket",
            "cookie: a=b",
        ];
        for line in odd {
            if self.chance(0.03) {
                lines.push(line.to_owned());
            }
        }
        let length = match self.random.random_range(0..50) {
            0 => body.len() / 2,
            1 => 20_000_000,
            _ => body.len(),
        };
        if !body.is_empty() || self.chance(0.1) {
            lines.push(format!("content-length: {length}"));
        }
        lines.iter().map(|line| format!("{line}\r\n")).collect()
    }

    fn body(&mut self, schema: &Value) -> Vec<u8> {
        let mut value = self.value(schema, 0);
        self.calm(&mut value);
        let mut text = value.to_string().into_bytes();
        if self.chance(0.15) {
            self.spoil(&mut text);
        }
        text
    }

    /// Points most bodies at the model there is, and keeps answers and loads short.
    fn calm(&mut self, value: &mut Value) {
        let Value::Object(fields) = value else { return };
        if fields.contains_key("model") && self.chance(0.95) {
            fields.insert("model".into(), "pierdesk".into());
            fields.insert("max_tokens".into(), self.random.random_range(0..8).into());
        }
        if fields.contains_key("arrival") {
            fields.insert(
                "arrival".into(),
                json!({"kind": "closed", "users": self.random.random_range(0..5)}),
            );
            fields.insert("span".into(), json!({"requests": self.random.random_range(0..9)}));
        }
        if fields.contains_key("demo") {
            // Each model more takes memory for good.
            fields.insert(
                "name".into(),
                ["pierdesk", "", "a b"]
                    .choose(&mut self.random)
                    .unwrap()
                    .to_owned()
                    .into(),
            );
        }
    }

    fn value(&mut self, schema: &Value, depth: usize) -> Value {
        if let Some(name) = schema["$ref"].as_str() {
            let name = name.rsplit('/').next().unwrap();
            return self.value(&self.document["components"]["schemas"][name].clone(), depth);
        }
        if self.chance(0.03) {
            return self.anything(depth);
        }
        for several in ["oneOf", "anyOf"] {
            if let Some(choices) = schema[several].as_array() {
                let choice = choices.choose(&mut self.random).unwrap().clone();
                return self.value(&choice, depth);
            }
        }
        if let Some(all) = schema["allOf"].as_array() {
            let mut whole = Map::new();
            for part in all {
                if let Value::Object(fields) = self.value(part, depth) {
                    whole.extend(fields);
                }
            }
            return Value::Object(whole);
        }
        if let Some(choices) = schema["enum"].as_array() {
            return choices.choose(&mut self.random).unwrap().clone();
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds.choose(&mut self.random).and_then(Value::as_str).unwrap_or("null"),
            Value::String(kind) => kind,
            _ => return self.anything(depth),
        };
        match kind.to_owned().as_str() {
            "object" => self.object(schema, depth),
            "array" if depth > 5 => json!([]),
            "array" => {
                let count = *[0, 1, 2, 3, 40].choose(&mut self.random).unwrap();
                (0..count)
                    .map(|_| self.value(&schema["items"].clone(), depth + 1))
                    .collect()
            }
            "string" => self.text().into(),
            "boolean" => self.chance(0.5).into(),
            "integer" => self.integer().into(),
            "number" => self.number(),
            _ => Value::Null,
        }
    }

    fn object(&mut self, schema: &Value, depth: usize) -> Value {
        let required = schema["required"].as_array().cloned().unwrap_or_default();
        let mut fields = Map::new();
        for (name, schema) in schema["properties"].as_object().into_iter().flatten() {
            let share = if required.contains(&json!(name)) { 0.97 } else { 0.2 };
            if self.chance(share) {
                fields.insert(name.clone(), self.value(schema, depth + 1));
            }
        }
        if self.chance(0.05) {
            fields.insert(self.text(), self.anything(depth));
        }
        Value::Object(fields)
    }

    fn anything(&mut self, depth: usize) -> Value {
        match self.random.random_range(0..7) {
            0 => Value::Null,
            1 => self.chance(0.5).into(),
            2 => self.integer().into(),
            3 => self.number(),
            4 => self.text().into(),
            5 if depth < 6 => (0..3).map(|_| self.anything(depth + 1)).collect(),
            6 if depth < 6 => json!({ "a": self.anything(depth + 1) }),
            _ => json!({}),
        }
    }

    fn text(&mut self) -> String {
        let long = "⛴ la".repeat(self.random.random_range(0..3_000));
        let texts = [
            "",
            "a",
            "user",
            "system",
            "text",
            "Hi",
            "\u{1b}[2J",
            "\u{0}",
            "\u{fdd0}<over>",
            "é",
            "questions",
            &long,
        ];
        (*texts.choose(&mut self.random).unwrap()).to_owned()
    }

    fn integer(&mut self) -> i64 {
        let small = self.random.random_range(0..20);
        *[
            small,
            small,
            small,
            0,
            -1,
            255,
            4_096,
            i64::from(u32::MAX),
            i64::MAX,
            i64::MIN,
        ]
        .choose(&mut self.random)
        .unwrap()
    }

    fn number(&mut self) -> Value {
        let small = self.random.random_range(-2.0..3.0);
        json!(
            *[small, small, 0.0, 1.0, -0.0, 1e308, -1e308, 1e-320]
                .choose(&mut self.random)
                .unwrap()
        )
    }

    /// Changes, drops, repeats or adds some bytes.
    fn spoil(&mut self, bytes: &mut Vec<u8>) {
        for _ in 0..self.random.random_range(1..4) {
            if bytes.is_empty() {
                return;
            }
            let at = self.random.random_range(0..bytes.len());
            match self.random.random_range(0..5) {
                0 => bytes[at] = self.random.random(),
                1 => drop(bytes.remove(at)),
                2 => bytes.insert(at, self.random.random()),
                3 => bytes.truncate(at),
                _ => bytes.extend_from_within(at..),
            }
        }
    }
}

/// Sends requests until the time is up; returns how often each status came.
fn call(service: &Service, document: &Value, seed: u64, end: Instant) -> BTreeMap<u16, usize> {
    let random = StdRng::seed_from_u64(seed);
    let mut fuzzer = Fuzzer { document, random };
    let mut statuses = BTreeMap::new();
    while Instant::now() < end {
        let request = fuzzer.request();
        let mut raw = Raw::connect(&service.url);
        // Nothing more comes, so that a head cut short or a body that is too short is no reason to wait.
        raw.send(&request);
        let is_live = request.starts_with(b"GET /manage/live");
        if !is_live && fuzzer.chance(0.5) {
            raw.close_sending();
        }
        let answer = if is_live { raw.until("\r\n\r\n") } else { raw.rest() };
        let status: u16 = answer.get(9..12).and_then(|status| status.parse().ok()).unwrap_or(0);
        // Without a key, an endpoint that is not ready and one that does not exist have the same empty answer.
        let is_empty = answer.ends_with("\r\n\r\n") && request.starts_with(b"GET /health/ready/");
        let documented = status != 503
            || is_empty
            || UNAVAILABLE.iter().any(|code| answer.contains(code))
            || answer.contains("\"ready\":false");
        assert!(
            status != 500 && documented,
            "seed {seed}: {}\n→ {answer}",
            String::from_utf8_lossy(&request)
        );
        *statuses.entry(status).or_default() += 1;
    }
    statuses
}

/// Returns the resident memory of a process, in KiB.
fn resident(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

/// Notes the largest resident memory of each minute until the time is up.
fn watch(process: u32, begun: Instant, end: Instant) -> Vec<u64> {
    let mut minutes: Vec<u64> = Vec::new();
    while Instant::now() < end {
        let minute = begun.elapsed().as_secs() as usize / 60;
        minutes.resize(minutes.len().max(minute + 1), 0);
        minutes[minute] = minutes[minute].max(resident(process));
        std::thread::sleep(Duration::from_millis(200));
    }
    minutes
}

/// Has every page of the KV cache written once, so that what grows afterwards is not the pool that was planned.
async fn fill_the_cache(service: &Service) {
    for first in 0..2 * WIDTH * CONTEXT / PROMPT {
        let prompt: Vec<usize> = (0..PROMPT).map(|at| 20 + (first + at) % 200).collect();
        let body = json!({"model": "pierdesk", "prompt": prompt, "max_tokens": 1});
        let (status, answer) = service.post("/v1/completions", &body).await;
        assert_eq!(status, 200, "{answer}");
    }
}

#[tokio::test]
async fn no_request_made_from_the_description_or_spoilt_breaks_the_service() {
    let seconds = std::env::var("VASTRELAY_FUZZ_SECONDS")
        .ok()
        .and_then(|seconds| seconds.parse().ok())
        .unwrap_or(60);
    let (context, width) = (CONTEXT.to_string(), WIDTH.to_string());
    let service = Service::limited("2097152", &["--demo", "--context", &context, "--width", &width]);
    let (_, document) = service.get("/openapi.json").await;
    fill_the_cache(&service).await;
    let (begun, total) = (Instant::now(), Mutex::new(BTreeMap::<u16, usize>::new()));
    let end = begun + Duration::from_secs(seconds);
    let minutes = std::thread::scope(|scope| {
        for seed in 0..CALLERS {
            let (service, document, total) = (&service, &document, &total);
            scope.spawn(move || {
                for (status, count) in call(service, document, seed, end) {
                    *total.lock().unwrap().entry(status).or_default() += count;
                }
            });
        }
        watch(service.process(), begun, end)
    });
    let total = total.into_inner().unwrap();
    println!("statuses {total:?}, resident KiB by minute {minutes:?}");
    assert!(
        total.get(&200).is_some_and(|count| *count > 50),
        "hardly anything was answered: {total:?}"
    );
    assert!(
        total.get(&400).is_some_and(|count| *count > 50),
        "hardly anything was refused: {total:?}"
    );
    service.ask("Hello").await;
    if let (Some(fifth), Some(last)) = (minutes.get(4), minutes.get(5..).and_then(<[u64]>::last)) {
        assert!(
            *last as f64 <= 1.1 * *fifth as f64,
            "{last} KiB in the last minute, {fifth} in the fifth"
        );
    }
}
