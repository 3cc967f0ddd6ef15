//! Callers, model files and neighbours that mean no good: each is refused, and nobody else notices.

use crate::raw::{Raw, request};
use crate::support::{Service, chat, first_key, repository, vastrelay, with};
use serde_json::{Value, json};
use std::io::Write;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;
use vastrelay_specimen::Stored;

/// Writes a small model into a folder.
fn small_model(folder: &Path) {
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
        "max_position_embeddings": 256, "tie_word_embeddings": true, "eos_token_id": 1
    });
    vastrelay_specimen::write(folder, &config, Stored::F32).unwrap();
}

/// Changes a JSON file.
fn change(file: &Path, change: impl FnOnce(&mut Value)) {
    let mut value: Value = serde_json::from_slice(&std::fs::read(file).unwrap()).unwrap();
    change(&mut value);
    std::fs::write(file, value.to_string()).unwrap();
}

/// Tries to start a service with a model; returns what it says.
fn refused(model: &Path) -> String {
    let data = tempfile::tempdir().unwrap();
    let output = vastrelay()
        .args(["start", "--listen", "127.0.0.1:0", "--model"])
        .arg(format!("small={}", model.display()))
        .arg("--data")
        .arg(data.path())
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    String::from_utf8_lossy(&output.stderr).into_owned()
}

fn message(answer: &Value) -> &str {
    answer["error"]["message"]
        .as_str()
        .unwrap_or_else(|| panic!("{answer}"))
}

#[tokio::test]
async fn prompts_beyond_the_context_are_refused_by_their_bytes() {
    let service = Service::demo(&[]);
    let huge = "x ".repeat(7 << 20);
    for (path, body) in [
        ("/v1/chat/completions", chat(&huge)),
        ("/v1/completions", json!({"model": "pierdesk", "prompt": huge})),
        (
            "/v1/completions",
            json!({"model": "pierdesk", "prompt": vec![7; 1 << 20]}),
        ),
        ("/text/count", json!({"model": "pierdesk", "text": huge})),
    ] {
        let (status, answer) = service.post(path, &body).await;
        let code = &answer["error"]["code"];
        assert_eq!(
            (status, code),
            (400, &json!("context_length_exceeded")),
            "{path} {answer}"
        );
        assert!(message(&answer).contains("2048"), "{answer}");
    }
    let many = json!({"model": "pierdesk", "prompt": vec!["a"; 1_000_000]});
    let (status, answer) = service.post("/v1/completions", &many).await;
    assert_eq!(status, 400);
    assert!(message(&answer).contains("more than 64 prompts"), "{answer}");
    let messages = vec![json!({"role": "user", "content": ""}); 100_000];
    let (status, answer) = service
        .post(
            "/v1/chat/completions",
            &json!({"model": "pierdesk", "messages": messages}),
        )
        .await;
    assert_eq!(status, 400);
    assert!(message(&answer).contains("more than 4096"), "{answer}");
    let (status, answer) = service
        .post(
            "/text/decode",
            &json!({"model": "pierdesk", "token_ids": vec![7; 100_000]}),
        )
        .await;
    assert_eq!(status, 400, "{answer}");
}

#[tokio::test]
async fn stop_strings_and_answers_are_bounded_before_the_work_begins() {
    let service = Service::demo(&[]);
    let long = with(chat("Hi"), json!({"stop": ["x".repeat(900_000)]}));
    let (status, answer) = service.post("/v1/chat/completions", &long).await;
    assert_eq!((status, &answer["error"]["param"]), (400, &json!("stop")));
    assert!(message(&answer).contains("256"), "{answer}");
    let fine = with(chat("Hi"), json!({"stop": vec!["x".repeat(256); 16], "n": 15}));
    assert_eq!(service.post("/v1/chat/completions", &fine).await.0, 200);

    let read_before = service.endpoint().await["totals"]["prefill_tokens"].clone();
    let prompts = vec!["When is the last boat back? ".repeat(60); 24];
    let huge = json!({"model": "pierdesk", "prompt": prompts, "n": 16, "echo": true, "logprobs": 20});
    let (status, answer) = service.post("/v1/completions", &huge).await;
    assert_eq!(
        (status, &answer["error"]["code"]),
        (400, &json!("answer_too_large")),
        "{answer}"
    );
    assert!(
        message(&answer).contains("MiB") && message(&answer).contains("32 MiB"),
        "{answer}"
    );
    let read = &service.endpoint().await["totals"]["prefill_tokens"];
    assert_eq!(*read, read_before, "nothing was read for the refused answer");
}

#[tokio::test]
async fn an_answer_counts_as_running_until_it_has_been_read() {
    let service = Service::demo(&[]);
    let prompt: Vec<Vec<u32>> = (0..12)
        .map(|n| (0..1_900).map(|id| 300 + (id + n) % 900).collect())
        .collect();
    let large = json!({"model": "pierdesk", "prompt": prompt, "echo": true, "logprobs": 20, "max_tokens": 1});
    let mut unread = Raw::connect(&service.url);
    unread.send(request("POST", "/v1/completions", &[], &large.to_string()));
    service
        .wait_for("the answer is computed", |model| model["totals"]["ended"] == 12)
        .await;
    let metrics = async || {
        reqwest::get(format!("{}/metrics", service.url))
            .await
            .unwrap()
            .text()
            .await
            .unwrap()
    };
    assert!(
        metrics().await.contains("vastrelay_calls_running 1"),
        "an unread answer is running"
    );
    let answer = unread.rest();
    assert!(
        answer.starts_with("HTTP/1.1 200") && answer.len() > 8 << 20,
        "{}",
        answer.len()
    );
    while !metrics().await.contains("vastrelay_calls_running 0") {}
}

#[tokio::test]
async fn more_choices_than_the_queue_holds_are_refused_for_good() {
    let service = Service::demo(&["--queue-depth", "4"]);
    let (status, answer) = service
        .post("/v1/chat/completions", &with(chat("Hi"), json!({"n": 5})))
        .await;
    assert_eq!(status, 400);
    assert!(
        message(&answer).contains("5 completions") && message(&answer).contains("holds 4"),
        "{answer}"
    );
    assert_eq!(
        service
            .post("/v1/chat/completions", &with(chat("Hi"), json!({"n": 4})))
            .await
            .0,
        200
    );
}

#[tokio::test]
async fn load_orders_beyond_the_context_are_refused() {
    let service = Service::demo(&[]);
    for (lengths, output) in [("4000000000", "16"), ("16", "4000000000")] {
        let order = json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": 1}, "span": {"requests": 1},
            "prompts": {"kind": "synthetic", "lengths": lengths}, "output": output});
        let (status, answer) = service.post("/manage/load", &order).await;
        assert_eq!(status, 400, "{answer}");
        assert!(message(&answer).contains("2048"), "{answer}");
    }
}

#[tokio::test]
async fn a_template_that_takes_all_memory_is_an_error_of_its_request_only() {
    let folder = tempfile::tempdir().unwrap();
    small_model(folder.path());
    let double =
        "{% set ns = namespace(s='x') %}{% for i in range(40) %}{% set ns.s = ns.s ~ ns.s %}{% endfor %}{{ ns.s }}";
    let template = format!(
        "{{% if messages[0].content == 'double' %}}{double}{{% elif messages[0].content == 'indent' %}}\
         {{{{ 'a\nb' | indent(2000000000) }}}}{{% else %}}{{{{ messages[0].content }}}}{{% endif %}}"
    );
    std::fs::write(folder.path().join("chat_template.jinja"), template).unwrap();
    let service = Service::demo(&["--model", &format!("small={}", folder.path().display())]);
    let ask = |text: &str| with(chat(text), json!({"model": "small", "max_tokens": 1}));
    for text in ["double", "indent"] {
        let (status, answer) = service.post("/v1/chat/completions", &ask(text)).await;
        assert_eq!(status, 400, "{answer}");
        let said = message(&answer);
        assert!(
            said.contains("MiB of memory") || said.contains("wrote more than"),
            "{said}"
        );
        assert_eq!(service.post("/v1/chat/completions", &ask("plain")).await.0, 200);
        service.ask("Hello").await;
    }
}

#[tokio::test]
async fn a_tokenizer_neither_cuts_nor_fills_up_prompts() {
    let folder = tempfile::tempdir().unwrap();
    small_model(folder.path());
    change(&folder.path().join("tokenizer.json"), |file| {
        file["truncation"] = json!({"direction": "Right", "max_length": 4, "strategy": "LongestFirst", "stride": 0});
        file["padding"] = json!({"strategy": {"Fixed": 100_000_000}, "direction": "Right", "pad_to_multiple_of": null,
            "pad_id": 0, "pad_type_id": 0, "pad_token": "a"});
    });
    let service = Service::start(&["--model", &format!("small={}", folder.path().display())]);
    let (status, answer) = service
        .post("/text/count", &json!({"model": "small", "text": "1234567"}))
        .await;
    assert_eq!((status, &answer["tokens"]), (200, &json!(7)), "{answer}");
}

#[test]
fn model_files_that_are_no_files_or_grow_without_bound_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    small_model(folder.path());
    let tokenizer = folder.path().join("tokenizer.json");
    let text = std::fs::read(&tokenizer).unwrap();
    change(&tokenizer, |file| {
        file["normalizer"] = json!({"type": "Replace", "pattern": {"String": "a"}, "content": "b".repeat(1 << 20)});
    });
    assert!(refused(folder.path()).contains("`normalizer` can make"));
    for (target, said) in [
        ("/dev/zero", "outside its folder"),
        ("/etc/hostname", "outside its folder"),
    ] {
        std::fs::remove_file(&tokenizer).unwrap();
        symlink(target, &tokenizer).unwrap();
        let refusal = refused(folder.path());
        assert!(refusal.contains(said), "{refusal}");
    }
    std::fs::remove_file(&tokenizer).unwrap();
    std::fs::write(&tokenizer, text).unwrap();
    std::fs::remove_file(folder.path().join("model.safetensors")).unwrap();
    assert!(
        Command::new("mkfifo")
            .arg(folder.path().join("model.safetensors"))
            .status()
            .unwrap()
            .success()
    );
    let refusal = refused(folder.path());
    assert!(
        refusal.contains("weights") || refusal.contains("regular file"),
        "{refusal}"
    );
}

#[tokio::test]
async fn a_model_that_computes_nan_fails_alone_and_can_be_removed() {
    let folder = tempfile::tempdir().unwrap();
    small_model(folder.path());
    let weights = folder.path().join("model.safetensors");
    let mut bytes = std::fs::read(&weights).unwrap();
    let header = 8 + u64::from_le_bytes(bytes[..8].try_into().unwrap()) as usize;
    bytes[header..]
        .chunks_exact_mut(4)
        .for_each(|value| value.copy_from_slice(&f32::NAN.to_le_bytes()));
    std::fs::write(&weights, bytes).unwrap();
    let service = Service::demo(&["--model", &format!("small={}", folder.path().display())]);
    let ask = json!({"model": "small", "prompt": "abc", "min_p": 0.1, "max_tokens": 4});
    // Each worker finds out with its first request; after three in a row nobody waits for the next.
    let mut found_out = 0;
    loop {
        let (status, answer) = service.post("/v1/completions", &ask).await;
        if status == 503 {
            assert_eq!(answer["error"]["code"], "endpoint_failed", "{answer}");
            let message = answer["error"]["message"].as_str().unwrap();
            assert!(message.contains("computes NaN"), "{message}");
            break;
        }
        assert_eq!(
            (status, &answer["error"]["code"]),
            (500, &json!("not_finite")),
            "{answer}"
        );
        found_out += 1;
    }
    assert!(found_out >= 3, "{found_out}");

    let (status, ready) = service.get("/health/ready").await;
    assert_eq!(
        (status, ready),
        (200, json!({"ready": true, "state": "degraded", "failed": ["small"]}))
    );
    assert_eq!(service.get("/health/ready/pierdesk").await.0, 200);
    assert_eq!(service.get("/health/ready/none").await.0, 404);
    service.ask("Hello").await;

    let stopped = service.client(&["endpoint", "remove", "small"]);
    assert!(stopped.status.success(), "{}", String::from_utf8_lossy(&stopped.stderr));
    assert_eq!(service.get("/health/ready").await.1["state"], "ready");
    assert_eq!(service.post("/v1/completions", &ask).await.0, 404);
    let again = service.client(&["endpoint", "remove", "small"]);
    assert!(String::from_utf8_lossy(&again.stderr).contains("`pierdesk`"));
}

#[tokio::test]
async fn names_of_models_follow_one_rule_over_http_and_on_the_command_line() {
    let service = Service::start(&[]);
    for name in ["", "a b", "a\u{1b}[2J", "../a", "é"] {
        let (status, answer) = service
            .post("/manage/endpoints?wait=120s", &json!({"name": name, "demo": true}))
            .await;
        assert_eq!((status, &answer["error"]["param"]), (400, &json!("name")), "{answer}");
        let typed = vastrelay()
            .args(["start", "--model", &format!("{name}=./none")])
            .output()
            .unwrap();
        assert_eq!(typed.status.code(), Some(2), "{name:?}");
    }
    let named = service
        .post(
            "/manage/endpoints?wait=120s",
            &json!({"name": "ferries/pierdesk@1", "demo": true}),
        )
        .await;
    assert_eq!(named.0, 201);
    assert_eq!(service.get("/v1/models/ferries/pierdesk@1").await.0, 200);
    assert_eq!(service.get("/manage/endpoints/ferries/pierdesk@1/history").await.0, 200);
    assert!(
        service
            .client(&["endpoint", "remove", "ferries/pierdesk@1"])
            .status
            .success()
    );
}

#[tokio::test]
async fn a_body_that_stops_coming_ends_with_the_envelope() {
    let service = Service::demo(&[]);
    let mut slow = Raw::connect(&service.url);
    slow.send("POST /v1/completions HTTP/1.1\r\nhost: localhost\r\ncontent-length: 1000\r\n\r\n{");
    let answer = slow.rest();
    assert!(
        answer.starts_with("HTTP/1.1 408") && answer.contains("slow_body"),
        "{answer}"
    );
}

#[tokio::test]
async fn errors_of_the_parser_carry_the_envelope() {
    let service = Service::demo(&[]);
    let answer = |text: String| Raw::connect(&service.url).send(text).rest();
    let wrong = answer("GET / HTTP/7\r\n\r\n".into());
    assert!(
        wrong.starts_with("HTTP/1.1 400") && wrong.contains("\"invalid_http\""),
        "{wrong}"
    );
    let huge = answer(format!(
        "GET / HTTP/1.1\r\nhost: localhost\r\nx: {}\r\n\r\n",
        "x".repeat(200_000)
    ));
    assert!(
        huge.starts_with("HTTP/1.1 431") && huge.contains("\"headers_too_large\""),
        "{huge}"
    );
    let idle = answer("GET / HTTP/1.1\r\nhost: local".into());
    assert!(
        idle.starts_with("HTTP/1.1 408") && idle.contains("\"slow_head\""),
        "{idle}"
    );
    let encoded = answer(request(
        "POST",
        "/v1/completions",
        &["content-encoding: br".into()],
        "{}",
    ));
    assert!(
        encoded.starts_with("HTTP/1.1 415") && encoded.contains("gzip"),
        "{encoded}"
    );
}

#[tokio::test]
async fn callers_of_http_1_0_get_no_chunks() {
    let service = Service::demo(&[]);
    let body = with(chat("Hi"), json!({"stream": true})).to_string();
    let old = format!(
        "POST /v1/chat/completions HTTP/1.0\r\nhost: localhost\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    );
    let answer = Raw::connect(&service.url).send(old).rest();
    let (head, frames) = answer.split_once("\r\n\r\n").unwrap();
    assert!(!head.to_lowercase().contains("transfer-encoding"), "{head}");
    assert!(
        frames.starts_with("data: {") && frames.ends_with("data: [DONE]\n\n"),
        "{frames}"
    );
}

#[tokio::test]
async fn a_caller_that_closes_its_sending_half_is_told_so_and_never_gets_half_an_answer() {
    let service = Service::demo(&[]);
    for stream in [false, true] {
        let body = with(
            chat("Hi"),
            json!({"stream": stream, "min_tokens": 1900, "max_tokens": 1900}),
        )
        .to_string();
        let mut raw = Raw::connect(&service.url);
        raw.send(request("POST", "/v1/chat/completions", &[], &body))
            .close_sending();
        let answer = raw.rest();
        assert!(answer.is_empty() || answer.contains("connection_closed"), "{answer}");
        assert!(
            !answer.contains("[DONE]") && !answer.contains("\"finish_reason\":\"\""),
            "{answer}"
        );
    }
    service
        .wait_for("nothing runs any more", |model| model["occupancy"]["lanes_used"] == 0)
        .await;
}

#[tokio::test]
async fn fields_that_cannot_change_the_answer_are_ignored_by_name_and_others_are_refused() {
    let service = Service::demo(&[]);
    let hints = json!({"service_tier": "auto", "reasoning_effort": "low", "verbosity": "low", "prompt_cache_key": "a",
        "safety_identifier": "b", "x_trace": {"deep": [1]}, "messages": [{"role": "user", "content": "Hi", "annotations": []}]});
    let response = service.send("/v1/chat/completions", &with(chat("Hi"), hints)).await;
    assert_eq!(response.status(), 200);
    assert_eq!(
        response.headers()["x-vastrelay-ignored"],
        "service_tier, reasoning_effort, verbosity, prompt_cache_key, safety_identifier, x_trace, messages.annotations"
    );
    for (more, said) in [
        (json!({"max_token": 3}), "`max_tokens`"),
        (json!({"functions": []}), "not supported by this call"),
        (json!({"messages": [{"role": "user", "contnt": "Hi"}]}), "`content`"),
        (json!({"max_completion_tokens": 0}), "`max_completion_tokens` is 0"),
        (json!({"max_completion_tokens": 9999}), "so ask for at most"),
    ] {
        let (status, answer) = service.post("/v1/chat/completions", &with(chat("Hi"), more)).await;
        assert_eq!(status, 400, "{answer}");
        assert!(message(&answer).contains(said), "{answer}");
    }
    let (_, answer) = service
        .post(
            "/v1/chat/completions",
            &with(chat("Hi"), json!({"max_completion_tokens": 9999})),
        )
        .await;
    assert_eq!(answer["error"]["param"], "max_completion_tokens");
    let plain = service.send("/v1/chat/completions", &chat("Hi")).await;
    assert!(!plain.headers().contains_key("x-vastrelay-ignored"));
}

#[tokio::test]
async fn what_callers_write_is_neither_obeyed_by_a_terminal_nor_kept_with_secrets_nor_without_bound() {
    let service = Service::demo(&["--record-texts"]);
    let key = "vr-00000000-0123456789abcdef0123456789abcdef01234567";
    let escape = format!("a\u{1b}[2J{key}{}", "m".repeat(10_000));
    for model in ["pierdesk", &escape] {
        let body = with(
            chat(&format!("\u{1b}]0;owned\u{7} {key}")),
            json!({"model": model, "user": key,
            "metadata": {"big": "x".repeat(1 << 20)}, "hint": "x".repeat(1 << 20)}),
        );
        service.send("/v1/chat/completions", &body).await;
    }
    let listed = service.client(&["request", "list"]);
    let shown = service.client(&["request", "list", "--json"]);
    let last = service.client(&["request", "show", "last", "--json"]);
    let metrics = reqwest::get(format!("{}/metrics", service.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    let printed = [&listed.stdout, &shown.stdout, &last.stdout].map(|text| String::from_utf8_lossy(text).into_owned());
    for text in printed.iter().chain([&metrics, &service.log()]) {
        assert!(!text.contains('\u{1b}'), "{text}");
        assert!(!text.contains("0123456789abcdef"), "{text}");
    }
    assert!(printed[0].contains("\\u{1b}") && printed.iter().all(|text| text.len() < 20_000));
    let kept = std::fs::metadata(service.data.path().join("vastrelay.sqlite-wal"))
        .unwrap()
        .len();
    assert!(kept < 1 << 20, "{kept}");
}

#[tokio::test]
async fn a_database_that_somebody_locks_holds_up_neither_health_nor_answers_and_loses_nothing() {
    let service = Service::demo(&[]);
    let made = service.client_json(&["key", "create", "--name", "a"]);
    let id = made["entry"]["id"].as_str().unwrap().to_owned();
    let database = rusqlite::Connection::open(service.data.path().join("vastrelay.sqlite")).unwrap();
    database.execute_batch("BEGIN IMMEDIATE").unwrap();
    let revoke = service
        .call(reqwest::Method::DELETE, &format!("/manage/keys/{id}"))
        .send();
    let others = async {
        for _ in 0..20 {
            service.ask("Hello").await;
            assert_eq!(service.get("/health/ready").await.0, 200);
        }
    };
    // The one that has to write waits for the lock; the others are done before it gives up.
    tokio::pin!(revoke, others);
    tokio::select! {
        biased;
        () = &mut others => {}
        early = &mut revoke => panic!("the key was revoked while the database was locked: {early:?}"),
    }
    let refused = revoke.await.unwrap();
    assert_eq!(refused.status(), 503);
    database.execute_batch("ROLLBACK").unwrap();
    while service
        .get("/manage/requests?most=100")
        .await
        .1
        .as_array()
        .unwrap()
        .len()
        < 20
    {}
    assert!(service.client(&["key", "revoke", &id]).status.success());
}

#[test]
fn a_second_service_on_one_folder_is_refused_and_keys_can_be_made_beside_the_first() {
    let service = Service::start(&[]);
    let second = vastrelay()
        .args(["start", "--listen", "127.0.0.1:0", "--data"])
        .arg(service.data.path())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&second.stderr);
    assert!(
        second.status.code() == Some(1) && said.contains("another service uses"),
        "{said}"
    );
    assert!(first_key(&service.data, &[]).starts_with("vr-"));
}

#[test]
fn data_is_for_its_owner_alone() {
    let service = Service::start(&[]);
    let mode = |path: &Path| path.metadata().unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(service.data.path()), 0o700);
    for name in ["vastrelay.sqlite", "vastrelay.sqlite-wal", "vastrelay.sqlite-shm"] {
        assert_eq!(mode(&service.data.path().join(name)), 0o600, "{name}");
    }
}

#[test]
fn hanging_up_drains_like_any_other_signal() {
    let service = Service::start(&[]);
    service.signal("HUP");
    assert!(service.wait().success());
}

#[tokio::test]
async fn connections_take_no_files_from_workers_health_checks_and_management() {
    let words = ["--demo", "--width", "1", "--queue-depth", "4000"];
    let service = Service::with_files("1024", &words);
    let address = service.url.trim_start_matches("http://").to_owned();
    // Each has a call that waits, so that it takes as many files as a connection ever does.
    let body = with(
        chat("Hello"),
        json!({"max_tokens": 1500, "min_tokens": 1500, "stream": true}),
    )
    .to_string();
    let kind = ["content-type: application/json".to_owned()];
    let call = request("POST", "/v1/chat/completions", &kind, &body);
    let connect = |_| {
        let mut stream = std::net::TcpStream::connect(&address).ok()?;
        stream.write_all(call.as_bytes()).ok()?;
        Some(stream)
    };
    let busy: Vec<std::net::TcpStream> = (0..1_200).filter_map(connect).collect();
    assert!(busy.len() > 600, "{}", busy.len());
    let files = || {
        let open = std::fs::read_dir(format!("/proc/{}/fd", service.process())).unwrap();
        open.count()
    };
    while files() < 270 {
        tokio::task::yield_now().await;
    }
    let model = repository().join("demo/models/pierdesk-1");
    for name in ["one", "two"] {
        let deployed = service.client(&["endpoint", "deploy", &format!("{name}={}", model.display())]);
        assert!(
            deployed.status.success(),
            "{}",
            String::from_utf8_lossy(&deployed.stderr)
        );
        assert!(files() < 800, "{} of 1,024 files are open", files());
    }
    drop(busy);
    while service.call(reqwest::Method::GET, "/health/live").send().await.is_err() {}
    assert!(service.ask("Hello").await.contains("passenger desk"));
    let limits = std::fs::read_to_string(format!("/proc/{}/limits", service.process())).unwrap();
    let files = limits.lines().find(|line| line.starts_with("Max open files")).unwrap();
    let words: Vec<&str> = files.split_whitespace().collect();
    assert_eq!(words[3], words[4], "{files}");
}

#[test]
fn the_client_tells_apart_why_a_service_cannot_be_reached() {
    let said = |url: &str| {
        let output = vastrelay().args(["status", "--url", url]).output().unwrap();
        assert_eq!(output.status.code(), Some(3));
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    assert!(said("http://127.0.0.1:9").contains("nothing listens there"));
    assert!(said("http://no-such-host.invalid").contains("host name is unknown"));
}

#[test]
fn too_many_pages_are_told_the_most_that_fit() {
    let data: TempDir = tempfile::tempdir().unwrap();
    let output = vastrelay()
        .args([
            "start",
            "--demo",
            "--listen",
            "127.0.0.1:0",
            "--pages",
            "900000000",
            "--data",
        ])
        .arg(data.path())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(
        said.contains("900,000,000 KV pages need") && !said.contains(" 0 B"),
        "{said}"
    );
}
