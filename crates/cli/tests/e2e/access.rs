//! Who may call what: every address, every kind of key, every spelling.

use crate::raw::{Raw, request};
use crate::support::{Service, guarded};
use serde_json::Value;

/// What a caller is told about whether it may.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Verdict {
    /// 401.
    WithoutKey,
    /// 403.
    WithoutScope,
    /// Anything else.
    LetIn,
}

impl Verdict {
    fn of(status: u16) -> Verdict {
        match status {
            401 => Verdict::WithoutKey,
            403 => Verdict::WithoutScope,
            _ => Verdict::LetIn,
        }
    }

    /// What a path's own spelling has to bring about, by what the reference says.
    fn due(path: &str, key: &str) -> Verdict {
        let asks_nothing =
            path.starts_with("/health/") || ["/openapi.json", "/spec-schema.json", "/session"].contains(&path);
        match key {
            _ if asks_nothing => Verdict::LetIn,
            "manage" => Verdict::LetIn,
            "use" if path.starts_with("/manage/") => Verdict::WithoutScope,
            "use" => Verdict::LetIn,
            _ => Verdict::WithoutKey,
        }
    }
}

/// Returns ways of writing a path that a careless check takes for another one.
fn spellings(url: &str, path: &str) -> Vec<String> {
    let encoded = |which: fn(usize) -> bool| -> String {
        let mut letter = 0;
        path.chars()
            .map(|c| {
                letter += usize::from(c.is_ascii_lowercase());
                match c.is_ascii_lowercase() && which(letter) {
                    true => format!("%{:02x}", c as u32),
                    false => c.to_string(),
                }
            })
            .collect()
    };
    let (first, rest) = path[1..].split_once('/').unwrap_or((&path[1..], ""));
    let mut spellings = vec![
        path.to_owned(),
        encoded(|letter| letter == 1),
        encoded(|_| true).to_uppercase(),
        format!("/{path}"),
        format!("{path}/"),
        format!("/.{path}"),
        format!("/none/..{path}"),
        format!("/console/..{path}"),
        format!("/console/%2e%2e{path}"),
        path.to_uppercase(),
        format!("{url}{path}"),
        format!("{path}?x=1"),
    ];
    if !rest.is_empty() {
        spellings.extend([
            format!("/{first}//{rest}"),
            format!("/{first}%2f{rest}"),
            format!("/{first}%252F{rest}"),
            format!("/{first}/./{rest}"),
            format!("/{first}/none/../{rest}"),
        ]);
    }
    spellings
}

/// Keys of every kind, with the words for them.
async fn keys(service: &Service) -> Vec<(&'static str, Option<String>)> {
    let mut made_so_far = 0;
    let mut make = |words: &[&str]| {
        made_so_far += 1;
        let name = format!("key {made_so_far}");
        let made = service.client_json(&[&["key", "create", "--name", &name], words].concat());
        made["key"].as_str().unwrap().to_owned()
    };
    let (revoked, expired) = (
        make(&["--scope", "manage"]),
        make(&["--scope", "manage", "--expires", "1s"]),
    );
    assert!(service.client(&["key", "revoke", &revoked]).status.success());
    while service
        .client_json(&["key", "list"])
        .as_array()
        .unwrap()
        .iter()
        .all(|key| key["state"] != "expired")
    {}
    vec![
        ("none", None),
        ("use", Some(make(&[]))),
        ("manage", Some(make(&["--scope", "manage"]))),
        ("expired", Some(expired)),
        ("revoked", Some(revoked)),
        ("foreign", Some("somebody-elses-token".into())),
    ]
}

#[tokio::test]
async fn every_spelling_of_every_address_brings_the_same_verdict() {
    let service = guarded(&["--context", "256"]);
    let (_, document) = service.get("/openapi.json").await;
    let keys = keys(&service).await;
    let mut calls = 0;
    for (pattern, methods) in document["paths"].as_object().unwrap() {
        // A name that nothing has, so that nothing is lost.
        let path = pattern.replace("{name}", "none").replace("{id}", "0");
        let described = methods.as_object().unwrap().keys().map(|method| method.to_uppercase());
        for method in described.chain(["PUT".into(), "FROBNICATE".into()]) {
            // Asks for nothing but what its body or key proves.
            if (path.as_str(), method.as_str()) == ("/session", "POST") {
                continue;
            }
            for (kind, key) in &keys {
                let header: Vec<String> = key.iter().map(|key| format!("authorization: Bearer {key}")).collect();
                let body = if method == "POST" { "{}" } else { "" };
                for target in spellings(&service.url, &path) {
                    let status = Raw::connect(&service.url)
                        .send(request(&method, &target, &header, body))
                        .status();
                    let (found, due) = (Verdict::of(status), Verdict::due(&path, kind));
                    assert_eq!(found, due, "{method} {target} with key `{kind}`: {status}");
                    calls += 1;
                }
            }
        }
    }
    assert!(calls > 5_000, "{calls}");
    let listed = service.client_json(&["key", "list"]);
    assert_eq!(listed.as_array().unwrap().len(), 5, "a key was made on the way");
    let metrics = reqwest::Client::new()
        .get(format!("{}/metrics", service.url))
        .bearer_auth(service.key.as_ref().unwrap());
    let metrics = metrics.send().await.unwrap().text().await.unwrap();
    assert!(!metrics.contains("FROBNICATE") && metrics.contains("method=\"other\""));
}

/// Sends a head and waits until the service has looked at the key and wants the body.
fn head(service: &Service, key: &str, body: &str) -> Raw {
    let mut raw = Raw::connect(&service.url);
    raw.send(format!(
        "POST /v1/chat/completions HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {key}\r\nconnection: close\r\n\
         expect: 100-continue\r\ncontent-length: {}\r\n\r\n",
        body.len()
    ));
    assert!(raw.until("\r\n\r\n").starts_with("HTTP/1.1 100"));
    raw
}

const QUESTION: &str = r#"{"model": "pierdesk", "max_tokens": 1, "messages": [{"role": "user", "content": "Hi"}]}"#;

#[tokio::test]
async fn bodies_that_come_late_bypass_neither_the_rate_nor_a_revocation() {
    let service = guarded(&[]);
    let made = service.client_json(&["key", "create", "--name", "slow", "--rate", "3"]);
    let key = made["key"].as_str().unwrap();
    let mut heads: Vec<Raw> = (0..12).map(|_| head(&service, key, QUESTION)).collect();
    let passed = heads
        .iter_mut()
        .filter_map(|raw| (raw.send(QUESTION).status() == 200).then_some(()))
        .count();
    // Three, and at most one that flowed in meanwhile.
    assert!((3..=4).contains(&passed), "{passed}");

    let made = service.client_json(&["key", "create", "--name", "brief"]);
    let mut late = head(&service, made["key"].as_str().unwrap(), QUESTION);
    assert!(
        service
            .client(&["key", "revoke", made["entry"]["id"].as_str().unwrap()])
            .status
            .success()
    );
    assert_eq!(late.send(QUESTION).status(), 401);
}

#[tokio::test]
async fn the_limits_of_a_key_hold_for_texts_too() {
    let mut service = guarded(&[]);
    let made = service.client_json(&["key", "create", "--name", "slow", "--rate", "2"]);
    service.key = Some(made["key"].as_str().unwrap().to_owned());
    let text = serde_json::json!({"model": "pierdesk", "text": "Hi"});
    let mut codes = Vec::new();
    for path in ["/text/count", "/text/encode", "/text/count"] {
        codes.push(service.post(path, &text).await.0);
    }
    assert_eq!(codes, [200, 200, 429]);
}

/// Asks a long question twice with one key and once with another; returns the tokens found in the cache.
async fn reused(words: &[&str]) -> [u64; 3] {
    let mut service = guarded(words);
    let other = service.client_json(&["key", "create", "--name", "other"])["key"]
        .as_str()
        .unwrap()
        .to_owned();
    let mut found = [0; 3];
    for (place, found) in found.iter_mut().enumerate() {
        if place == 2 {
            service.key = Some(other.clone());
        }
        let question = crate::support::chat(&"When does the last boat leave Tolsay on Sunday? ".repeat(8));
        let (_, answer) = service.post("/v1/chat/completions", &question).await;
        *found = answer["usage"]["prompt_tokens_details"]["cached_tokens"]
            .as_u64()
            .unwrap();
    }
    found
}

#[tokio::test]
async fn a_key_does_not_learn_what_another_key_sent_unless_the_cache_is_shared() {
    let [first, again, other] = reused(&[]).await;
    assert!(first == 0 && again > 0 && other == 0, "{first} {again} {other}");
    let [first, again, other] = reused(&["--share-cache"]).await;
    assert!(first == 0 && again > 0 && other == again, "{first} {again} {other}");
}

#[tokio::test]
async fn a_key_that_cannot_be_looked_up_lets_nobody_in() {
    let service = guarded(&[]);
    let key: Value = service.client_json(&["key", "list"])[0].clone();
    assert_eq!(key["state"], "valid");
    // The table is gone: every look-up fails.
    let database = rusqlite::Connection::open(service.data.path().join("vastrelay.sqlite")).unwrap();
    database.execute_batch("ALTER TABLE keys RENAME TO other").unwrap();
    let (status, answer) = service.get("/v1/models").await;
    assert_eq!(
        (status, answer["error"]["code"].as_str()),
        (503, Some("keys_unavailable")),
        "{answer}"
    );
    database.execute_batch("ALTER TABLE other RENAME TO keys").unwrap();
    assert_eq!(service.get("/v1/models").await.0, 200);
}
