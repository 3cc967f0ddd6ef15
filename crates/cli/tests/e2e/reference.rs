//! Served models against the independent forward pass.

use crate::support::{Service, repository};
use serde_json::{Value, json};
use std::path::Path;
use vastrelay_specimen::Stored;

fn fixture(name: &str) -> Value {
    let path = repository()
        .join("demo/reference/fixtures")
        .join(format!("{name}.json"));
    serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap()
}

/// All ten prompts in one request, so that they run as a batch. Ends are kept away, as the reference ignores them.
async fn compare(folder: &Path, fixture: &Value) {
    // In 32-bit floats, as the reference has it: random weights turn the smallest difference into other tokens.
    let model = format!("model={}", folder.display());
    let service = Service::start(&["--model", &model, "--kv", "f32"]);
    let items = fixture["items"].as_array().unwrap();
    let prompts: Vec<&Value> = items.iter().map(|item| &item["prompt"]).collect();
    let request = json!({
        "model": "model", "prompt": prompts, "max_tokens": 32, "temperature": 0, "include": ["token_ids"],
    });
    let (status, answer) = service.post("/v1/completions", &request).await;
    assert_eq!(status, 200, "{answer}");
    let end = fixture["config"]["eos_token_id"].as_u64();
    for (choice, item) in answer["choices"].as_array().unwrap().iter().zip(items) {
        let (ours, wanted) = (
            choice["token_ids"].as_array().unwrap(),
            item["greedy"].as_array().unwrap(),
        );
        let until = wanted
            .iter()
            .position(|id| id.as_u64() == end)
            .map_or(wanted.len(), |at| at + 1);
        assert_eq!(ours[..], wanted[..until]);
    }
}

#[tokio::test]
async fn the_demo_model_serves_the_tokens_of_the_reference() {
    compare(&repository().join("demo/models/pierdesk-1"), &fixture("pierdesk-1")).await;
}

#[tokio::test]
async fn generated_models_serve_the_tokens_of_the_reference() {
    for (name, stored) in [("wide", Stored::F32), ("odd", Stored::Bf16)] {
        let fixture = fixture(name);
        let folder = tempfile::tempdir().unwrap();
        vastrelay_specimen::write(folder.path(), &fixture["config"], stored).unwrap();
        compare(folder.path(), &fixture).await;
    }
}
