//! What a replica really takes of this machine's memory is what was planned.

use crate::support::{Service, repository};
use serde_json::{Value, json};
use std::path::Path;
use tempfile::TempDir;
use vastrelay_specimen::Stored;

/// What the plan may be off: 2 %, and 16 MiB.
const MARGIN: usize = 16 << 20;

/// Serves a model in a precision and compares what came to lie in memory with the plan.
async fn takes_what_was_planned(name: &str, path: &Path, weights: &str, kv: &str) {
    let named = format!("m={}", path.display());
    let words = [
        "--model",
        &named,
        "--weights",
        weights,
        "--kv",
        kv,
        "--pages",
        "2048",
        "--width",
        "8",
    ];
    let service = Service::start(&words);
    // The largest step touches all of the workspace.
    let prompt = vec![5; 640];
    let question = json!({"model": "m", "prompt": prompt, "max_tokens": 2, "temperature": 0});
    let (status, answer) = service.post("/v1/completions", &question).await;
    assert_eq!(status, 200, "{answer}");
    let memory = |endpoint: &Value, part: &str| endpoint["replicas"][0]["memory"][part].as_u64().unwrap() as usize;
    service
        .wait_for("all pages are there", |endpoint| {
            memory(endpoint, "resident") >= memory(endpoint, "reserved")
        })
        .await;
    let endpoint = service.endpoint().await;
    let planned = memory(&endpoint, "reserved");
    let taken = service.resident(service.worker());
    assert!(
        taken.abs_diff(planned) <= planned / 50 + MARGIN,
        "{name} in {weights}, KV {kv}: {} MiB taken, {} MiB planned",
        taken >> 20,
        planned >> 20
    );
}

const WEIGHTS: [&str; 5] = ["as-stored", "f32", "bf16", "int8", "int4"];

/// Returns a folder with a model of made-up weights.
pub fn specimen(
    width: usize,
    layers: usize,
    heads: usize,
    kv_heads: usize,
    mlp_width: usize,
    vocabulary: usize,
) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": vocabulary, "hidden_size": width, "intermediate_size": mlp_width,
        "num_hidden_layers": layers, "num_attention_heads": heads, "num_key_value_heads": kv_heads,
        "rms_norm_eps": 1e-5, "max_position_embeddings": 2_048, "tie_word_embeddings": true
    });
    vastrelay_specimen::write(folder.path(), &config, Stored::Bf16).unwrap();
    folder
}

#[tokio::test]
async fn the_demo_and_shapes_at_random_take_what_was_planned() {
    let demo = repository().join("demo/models/pierdesk-1");
    for weights in WEIGHTS {
        takes_what_was_planned("pierdesk", &demo, weights, "bf16").await;
    }
    takes_what_was_planned("pierdesk", &demo, "as-stored", "f32").await;
    takes_what_was_planned("pierdesk", &demo, "as-stored", "int8").await;
    // Drawn, and the same each time.
    let mut state = 7u64;
    let mut draw = |from: usize, to: usize| {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        from + (state >> 33) as usize % (to - from + 1)
    };
    for weights in WEIGHTS {
        let (kv_heads, sharing) = (draw(1, 4), draw(1, 3));
        let (heads, layers) = (kv_heads * sharing, draw(2, 12));
        let folder = specimen(heads * 64, layers, heads, kv_heads, 64 * draw(2, 24), 512 * draw(1, 40));
        takes_what_was_planned(
            &format!("{layers} layers, {heads} heads"),
            folder.path(),
            weights,
            "bf16",
        )
        .await;
    }
}

#[tokio::test]
async fn a_model_of_135_million_parameters_takes_what_was_planned() {
    let folder = specimen(576, 30, 9, 3, 1_536, 49_152);
    for weights in WEIGHTS {
        takes_what_was_planned("135M", folder.path(), weights, "bf16").await;
    }
}
