//! Models in other forms: a GGUF file is looked at, served, and answers as the folder it was made from.

use crate::support::{Service, chat, repository, vastrelay, with};
use serde_json::{Value, json};
use vastrelay_specimen::gguf::{Precision, of_folder};

/// Writes the demo model as one file; returns its path and what keeps it.
fn file(precision: Precision) -> (tempfile::TempDir, String) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("pierdesk.gguf");
    let bytes = of_folder(&repository().join("demo/models/pierdesk-1"), precision).unwrap();
    std::fs::write(&path, bytes).unwrap();
    let path = path.to_str().unwrap().to_owned();
    (folder, path)
}

async fn ids(service: &Service, question: &str) -> Value {
    let request = with(chat(question), json!({"temperature": 0, "include": ["token_ids"]}));
    let (status, answer) = service.post("/v1/chat/completions", &request).await;
    assert_eq!(status, 200, "{answer}");
    answer["choices"][0]["token_ids"].clone()
}

#[tokio::test]
async fn a_gguf_file_answers_as_the_folder_it_was_made_from() {
    let (_folder, path) = file(Precision::F32);
    let from_file = Service::start(&["--model", &format!("pierdesk={path}")]);
    let from_folder = Service::demo(&[]);
    for question in [
        "When is the last boat back on Sunday?",
        "Can I bring my dog?",
        "What is 17 + 25?",
    ] {
        assert_eq!(
            ids(&from_file, question).await,
            ids(&from_folder, question).await,
            "{question}"
        );
    }
    let text = json!({"model": "pierdesk", "messages": [{"role": "user", "content": "Is pier 12 open?"}]});
    let (file, folder) = (
        from_file.post("/text/render", &text).await,
        from_folder.post("/text/render", &text).await,
    );
    assert_eq!(file, folder, "template and tokenizer are the same");
}

#[tokio::test]
async fn eight_bit_blocks_are_served() {
    let (_folder, path) = file(Precision::Q8_0);
    let service = Service::start(&["--model", &format!("pierdesk={path}")]);
    assert!(
        service
            .ask("When is the last boat back on Sunday?")
            .await
            .contains("18:00")
    );
}

#[test]
fn inspect_says_what_a_path_holds_without_a_service() {
    let (folder, path) = file(Precision::Q8_0);
    let inspect = |words: &[&str]| vastrelay().args(["model", "inspect"]).args(words).output().unwrap();
    let output = inspect(&[&path, "--json"]);
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert!(output.status.success());
    assert_eq!(
        (&found["format"], &found["architecture"], &found["parameters"]),
        (&json!("GGUF"), &json!("LlamaForCausalLM"), &json!(2_262_720))
    );
    let types: Vec<&str> = found["stored"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| s["name"].as_str().unwrap())
        .collect();
    assert_eq!((types, &found["fit"]["fits"]), (vec!["F32", "Q8_0"], &json!(true)));
    assert_eq!((&found["template"], &found["problems"]), (&json!(true), &json!([])));
    let demo = repository().join("demo/models/pierdesk-1");
    let words = String::from_utf8(inspect(&[demo.to_str().unwrap()]).stdout).unwrap();
    for part in [
        "LlamaForCausalLM, 2,262,720 parameters",
        "safetensors",
        "chat works",
        "it fits this machine",
    ] {
        assert!(words.contains(part), "{words}");
    }

    // A file that was cut short, and a folder whose config promises more layers than there are.
    let bytes = std::fs::read(&path).unwrap();
    std::fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
    let cut = inspect(&[&path]);
    let said = String::from_utf8_lossy(&cut.stderr).into_owned();
    assert!(
        cut.status.code() == Some(1) && said.contains("reaches beyond the file's end"),
        "{said}"
    );
    let copy = folder.path().join("deeper");
    std::fs::create_dir(&copy).unwrap();
    for entry in std::fs::read_dir(&demo).unwrap().flatten() {
        std::fs::copy(entry.path(), copy.join(entry.file_name())).unwrap();
    }
    let mut config: Value = serde_json::from_slice(&std::fs::read(copy.join("config.json")).unwrap()).unwrap();
    config["num_hidden_layers"] = json!(config["num_hidden_layers"].as_u64().unwrap() + 1);
    std::fs::write(copy.join("config.json"), config.to_string()).unwrap();
    let deeper = inspect(&[copy.to_str().unwrap()]);
    let words = String::from_utf8_lossy(&deeper.stdout).into_owned();
    assert!(
        deeper.status.code() == Some(1) && words.contains("is missing from"),
        "{words}"
    );
}
