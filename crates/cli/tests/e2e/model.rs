//! Models in other forms: a GGUF file is looked at, served, and answers as the folder it was made from.

use crate::support::{Service, chat, repository, vastrelay, with};
use serde_json::{Value, json};
use vastrelay_specimen::gguf::{Precision, of_folder};
use vastrelay_specimen::quantized::{self, Method};

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

#[tokio::test]
async fn checkpoints_that_their_publishers_quantized_are_served() {
    let folder = tempfile::tempdir().unwrap();
    let methods = [
        ("aware", Method::ActivationAware),
        ("compensated", Method::ErrorCompensating { reordered: false }),
        ("reordered", Method::ErrorCompensating { reordered: true }),
        ("eight", Method::Fp8),
    ];
    let mut words = vec!["--split".to_owned(), "2".to_owned()];
    for (name, method) in methods {
        let path = folder.path().join(name);
        quantized::write(&repository().join("demo/models/pierdesk-1"), &path, method).unwrap();
        let output = vastrelay()
            .args(["model", "inspect", "--json"])
            .arg(&path)
            .output()
            .unwrap();
        let found: Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(
            (&found["problems"], &found["splits"]),
            (&json!([]), &json!([1, 2])),
            "{name}"
        );
        let stored = found["stored"].to_string();
        let kind = if name == "eight" { "F8_E4M3" } else { "I32" };
        assert!(stored.contains(kind), "{stored}");
        words.extend(["--model".to_owned(), format!("{name}={}", path.display())]);
    }
    // Undivided and over two shards.
    for words in [&words[2..], &words[..]] {
        let service = Service::start(&words.iter().map(String::as_str).collect::<Vec<&str>>());
        for (name, _) in methods {
            let request = with(
                chat("When is the last boat back on Sunday?"),
                json!({"model": name, "temperature": 0}),
            );
            let (status, answer) = service.post("/v1/chat/completions", &request).await;
            let text = answer["choices"][0]["message"]["content"].as_str().unwrap_or_default();
            assert!(status == 200 && text.contains("18:00"), "{name}: {answer}");
        }
    }
}

#[tokio::test]
async fn a_model_over_two_shards_answers_as_one_and_says_so() {
    let whole = Service::demo(&[]);
    let split = Service::demo(&["--split", "2"]);
    assert!(split.greeting.contains("in 2 shards"), "{}", split.greeting);
    assert_eq!(split.endpoint().await["replicas"][0]["split"], json!(2));
    for question in ["When is the last boat back on Sunday?", "Can I bring my dog?"] {
        assert_eq!(ids(&split, question).await, ids(&whole, question).await, "{question}");
    }
    let status = split.client(&["status"]);
    assert!(
        String::from_utf8_lossy(&status.stdout).contains("split 2"),
        "{status:?}"
    );
    let refused = |words: &[&str]| {
        let data = tempfile::tempdir().unwrap();
        let start = ["start", "--demo", "--listen", "127.0.0.1:0", "--data"];
        let output = vastrelay().args(start).arg(data.path()).args(words).output().unwrap();
        assert_eq!(output.status.code(), Some(1), "{output:?}");
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    let three = refused(&["--split", "3"]);
    assert!(
        three.contains("does not divide 2 key and value heads and an MLP of width 640; use 1 or 2"),
        "{three}"
    );
    let crowded = refused(&["--split", "2", "--cores", "1"]);
    assert!(
        crowded.contains("needs 2 cores, one for each shard, and has 1"),
        "{crowded}"
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

#[tokio::test]
async fn a_build_is_made_served_and_told_as_what_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let (_file, source) = file(Precision::F32);
    let out = folder.path().join("int8");
    let notes = folder.path().join("notes.txt");
    std::fs::write(&notes, "When is the last boat back on Sunday?\n".repeat(20)).unwrap();
    let build = |words: &[&str]| {
        vastrelay()
            .args(["model", "build", &source, "--out"])
            .arg(&out)
            .args(words)
            .output()
            .unwrap()
    };
    let said = |output: &std::process::Output| String::from_utf8_lossy(&output.stderr).into_owned();
    for (words, part) in [
        (vec!["--weights", "int4", "--group", "48"], "use 32, 64 or 128"),
        (vec!["--weights", "bf16", "--group", "64"], "bf16 has no groups"),
        (vec!["--calibrate", "notes.txt"], "--calibrate is for"),
        (
            vec!["--weights", "int8", "--calibrate", "nowhere.txt"],
            "nowhere.txt cannot be read",
        ),
    ] {
        let output = build(&words);
        assert!(
            output.status.code() == Some(2) && said(&output).contains(part),
            "{}",
            said(&output)
        );
    }
    let calibrated = [
        "--weights",
        "int8",
        "--kv",
        "int8",
        "--calibrate",
        notes.to_str().unwrap(),
        "--json",
    ];
    let output = build(&calibrated);
    assert!(output.status.success(), "{}", said(&output));
    for phase in [
        "scoring the source",
        "rounding matrices",
        "packing and writing",
        "scoring the build",
    ] {
        assert!(said(&output).contains(phase), "{}", said(&output));
    }
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(
        json!([
            report["weights"],
            report["group"],
            report["kv"],
            report["calibrated_on"]
        ]),
        json!(["int8", 32, "int8", "notes.txt"])
    );
    let loss = |when: &str| report[when].as_f64().unwrap();
    assert!(
        (loss("loss_after") / loss("loss_before") - 1.0).abs() < 0.05,
        "{report}"
    );
    assert!(report["bytes"].as_u64() < report["source_bytes"].as_u64());
    let again = build(&["--weights", "int8"]);
    assert!(
        again.status.code() == Some(1) && said(&again).contains("is there already"),
        "{}",
        said(&again)
    );

    let model = format!("pierdesk={}", out.display());
    let service = Service::start(&["--model", &model]);
    assert!(
        service
            .ask("When is the last boat back on Sunday?")
            .await
            .contains("18:00")
    );
    let (_, status) = service.get("/manage/status").await;
    assert_eq!(
        status["endpoints"][0]["precision"],
        json!({"weights": "int8", "group": 32, "kv": "int8"})
    );
    let inspected = vastrelay().args(["model", "inspect"]).arg(&out).output().unwrap();
    let words = String::from_utf8_lossy(&inspected.stdout).into_owned();
    assert!(
        words.contains("build") && words.contains("weights int8, groups of 32"),
        "{words}"
    );
    let other = vastrelay()
        .args([
            "start",
            "--listen",
            "127.0.0.1:0",
            "--weights",
            "bf16",
            "--model",
            &model,
            "--data",
        ])
        .arg(folder.path())
        .output()
        .unwrap();
    assert!(
        other.status.code() == Some(1) && said(&other).contains("another precision is built from the checkpoint"),
        "{}",
        said(&other)
    );
}

#[tokio::test]
async fn weights_and_kv_are_narrowed_when_they_are_loaded() {
    let service = Service::demo(&["--weights", "int4", "--group", "128", "--kv", "bf16"]);
    assert!(service.ask("Can I bring my dog?").await.to_lowercase().contains("dog"));
    let words = String::from_utf8(service.client(&["status"]).stdout).unwrap();
    assert!(
        words.contains("int4, groups of 128") && words.contains("(bf16)"),
        "{words}"
    );
}
