//! Endpoints of specs, deployed with the client.

use crate::support::{Service, chat, repository, with};
use serde_json::{Value, json};
use std::path::Path;

/// Listens where it is free.
pub const LOOPBACK: [&str; 2] = ["--listen", "127.0.0.1:0"];

/// Writes a spec into a folder and returns its path.
pub fn spec(folder: &Path, name: &str, text: &str) -> String {
    let path = folder.join(format!("{name}.toml"));
    std::fs::write(&path, text).unwrap();
    path.display().to_string()
}

/// Returns the spec of a model of the demo, with more settings.
pub fn spec_of(model: &str, rest: &str) -> String {
    let model = repository().join("demo").join(model);
    format!("model = {:?}\n{rest}", model.display().to_string())
}

/// Returns the spec of the demo's model, with more settings.
pub fn small(rest: &str) -> String {
    spec_of("models/pierdesk-1", rest)
}

/// Returns a question to an endpoint.
pub fn asked(model: &str, more: Value) -> Value {
    with(
        with(
            chat("When is the last boat back on Sunday?"),
            json!({"model": model, "max_tokens": 8}),
        ),
        more,
    )
}

/// Runs the client; returns whether it succeeded, and what it said.
pub fn client(service: &Service, words: &[&str]) -> (bool, String) {
    let output = service.client(words);
    let all = [output.stdout, output.stderr].concat();
    (output.status.success(), String::from_utf8(all).unwrap())
}

/// Runs the client and returns what it said; it has to succeed.
pub fn succeeded(service: &Service, words: &[&str]) -> String {
    let (succeeded, said) = client(service, words);
    assert!(succeeded, "{words:?}: {said}");
    said
}

/// Runs the client, which has to fail and say these parts.
pub fn refused(service: &Service, words: &[&str], parts: &[&str]) {
    let (succeeded, said) = client(service, words);
    assert!(!succeeded, "{words:?}: {said}");
    for part in parts {
        assert!(said.contains(part), "{words:?}: {said} should say: {part}");
    }
}

/// Returns the state of each endpoint, by name.
pub fn states(service: &Service) -> Value {
    let listed = service.client_json(&["endpoint", "list"]);
    let all = ["endpoints", "resting"]
        .iter()
        .flat_map(|key| listed[key].as_array().unwrap().clone());
    all.map(|endpoint| (endpoint["name"].as_str().unwrap().to_owned(), endpoint["state"].clone()))
        .collect::<serde_json::Map<_, _>>()
        .into()
}

/// Waits until an endpoint is in a state.
pub async fn wait_for_state(service: &Service, name: &str, state: &str) {
    let is_there = async {
        while states(service)[name] != state {
            tokio::task::yield_now().await;
        }
    };
    let waited = tokio::time::timeout(std::time::Duration::from_secs(30), is_there).await;
    waited.unwrap_or_else(|_| panic!("`{name}` should be {state}: {}", states(service)));
}
