//! How an endpoint's calls are answered is in its spec: each key has an effect.

use crate::deployed::{asked, refused, small, spec, succeeded, wait_for_state};
use crate::support::{Service, with};
use serde_json::{Value, json};
use tempfile::TempDir;

/// Deploys the demo's model under a name with more settings.
fn deploy(service: &Service, files: &TempDir, name: &str, rest: &str) {
    succeeded(
        service,
        &["endpoint", "deploy", &spec(files.path(), name, &small(rest))],
    );
}

async fn answer(service: &Service, model: &str, more: Value) -> Value {
    let (status, answer) = service.post("/v1/chat/completions", &asked(model, more)).await;
    assert_eq!(status, 200, "{answer}");
    answer
}

fn text(answer: &Value) -> &str {
    answer["choices"][0]["message"]["content"].as_str().unwrap()
}

#[tokio::test]
async fn sampling_is_as_the_spec_says_where_a_call_says_nothing() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&[]);
    let free = json!({"seed": 5, "max_tokens": 150, "min_tokens": 150});
    for (key, value) in [
        ("temperature", json!(2.0)),
        ("top_p", json!(0.01)),
        ("top_k", json!(1)),
        ("min_p", json!(1.0)),
        ("repetition_penalty", json!(5.0)),
        ("presence_penalty", json!(2.0)),
        ("frequency_penalty", json!(2.0)),
    ] {
        let free = match key {
            "temperature" => free.clone(),
            _ => with(free.clone(), json!({"temperature": 2})),
        };
        deploy(&service, &files, "desk", &format!("[defaults]\n{key} = {value}"));
        let told = answer(&service, "desk", free.clone()).await;
        let asked = answer(&service, "pierdesk", with(free.clone(), json!({key: value}))).await;
        let neither = answer(&service, "pierdesk", free.clone()).await;
        assert_eq!(text(&told), text(&asked), "{key}");
        assert_ne!(text(&told), text(&neither), "{key}");
        let usual = json!({"temperature": 1, "top_p": 1, "top_k": 0, "min_p": 0, "repetition_penalty": 1,
            "presence_penalty": 0, "frequency_penalty": 0});
        let overruled = with(free, json!({key: usual[key]}));
        let (here, there) = (
            answer(&service, "desk", overruled.clone()).await,
            answer(&service, "pierdesk", overruled).await,
        );
        assert_eq!(text(&here), text(&there), "{key}: a call is asked first");
    }
    deploy(&service, &files, "desk", "[defaults]\nmax_tokens = 3");
    let bounded = answer(&service, "desk", json!({"max_tokens": null, "min_tokens": 3})).await;
    assert_eq!(bounded["usage"]["completion_tokens"], 3);
    let asked = answer(&service, "desk", json!({"max_tokens": 5, "min_tokens": 5})).await;
    assert_eq!(asked["usage"]["completion_tokens"], 5);
}

#[tokio::test]
async fn stop_tokens_end_an_answer_and_have_to_be_tokens() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&[]);
    let greedy = json!({"temperature": 0, "max_tokens": 30, "include": ["token_ids"]});
    let whole = answer(&service, "pierdesk", greedy.clone()).await;
    let third = whole["choices"][0]["token_ids"][2].clone();
    deploy(&service, &files, "desk", &format!("[tokens]\nstop = [{third}]"));
    let ended = answer(&service, "desk", greedy.clone()).await;
    assert_eq!(ended["choices"][0]["finish_reason"], "stop");
    assert!(text(&whole).starts_with(text(&ended)), "{ended}");
    assert!(text(&ended).len() < text(&whole).len(), "{ended}");
    let encoded = json!({"model": "pierdesk", "token_ids": [third]});
    let word = service.post("/text/decode", &encoded).await.1["text"].clone();
    let (_, tokens) = service
        .post("/text/encode", &json!({"model": "pierdesk", "text": word}))
        .await;
    assert!(tokens["tokens"].is_array(), "{tokens}");
    deploy(&service, &files, "dock", "[tokens]\nstop = [\"<over>\"]");
    assert_eq!(text(&answer(&service, "dock", greedy).await), text(&whole));
    for (stop, parts) in [
        ("[99999]", ["line 3, column 8", "99999 is not a token", "tokens 0 to"]),
        (
            "[\"lighthouse keeper\"]",
            ["line 3, column 8", "is not one token", "text encode"],
        ),
    ] {
        let file = spec(files.path(), "pier", &small(&format!("[tokens]\nstop = {stop}")));
        refused(&service, &["endpoint", "deploy", &file], &parts);
    }
}

#[tokio::test]
async fn an_endpoint_for_conversations_continues_no_text_and_the_other_way_round() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let plain = |model: &str| json!({"model": model, "prompt": "The last boat", "max_tokens": 2});
    for (mode, chat, completion, hint) in [
        ("chat", 200, 400, "POST /v1/chat/completions"),
        ("plain", 400, 200, "POST /v1/completions"),
    ] {
        deploy(&service, &files, "desk", "");
        let text = format!("mode = {mode:?}\n{}", small(""));
        succeeded(&service, &["endpoint", "deploy", &spec(files.path(), "desk", &text)]);
        let listed = service.get("/v1/models/desk").await.1;
        assert_eq!(listed["modes"], json!([mode]));
        let (status, first) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
        assert_eq!(status, chat, "{first}");
        let (status, second) = service.post("/v1/completions", &plain("desk")).await;
        assert_eq!(status, completion, "{second}");
        let said = if chat == 400 { first } else { second };
        assert!(said["error"]["message"].as_str().unwrap().contains(hint), "{said}");
    }
    let messages = json!({"model": "desk", "messages": [{"role": "user", "content": "Hello"}]});
    assert_eq!(service.post("/text/render", &messages).await.0, 400);
}

#[tokio::test]
async fn a_template_of_the_spec_takes_the_place_of_the_models_own() {
    let files = TempDir::new().unwrap();
    let service = Service::demo(&[]);
    let template = files.path().join("desk.jinja");
    let deployed = |text: &str| {
        std::fs::write(&template, text).unwrap();
        let text = format!("template = \"desk.jinja\"\n{}", small(""));
        ["endpoint".into(), "deploy".into(), spec(files.path(), "desk", &text)]
    };
    let words = deployed("{{ bos_token }}|{{ messages[0].content }}|{{ eos_token }}");
    succeeded(&service, &words.each_ref().map(String::as_str));
    let messages = json!({"model": "desk", "messages": [{"role": "user", "content": "Hello"}]});
    let rendered = service.post("/text/render", &messages).await.1;
    assert_eq!(rendered["text"], "<hail>|Hello|<over>");
    answer(&service, "desk", json!({})).await;
    // The file is read when it is deployed: another text is another release.
    let words = deployed("{{ messages[0].content }}!");
    succeeded(&service, &words.each_ref().map(String::as_str));
    let detail = service.client_json(&["endpoint", "show", "desk"]);
    assert_eq!(detail["status"]["release"], 2);
    assert_eq!(service.post("/text/render", &messages).await.1["text"], "Hello!");
    let words = deployed("{{ messages[0].content");
    refused(
        &service,
        &words.each_ref().map(String::as_str),
        &["line 1, column 12", "not valid Jinja"],
    );
    std::fs::remove_file(&template).unwrap();
    let text = format!("template = \"desk.jinja\"\n{}", small(""));
    let file = spec(files.path(), "desk", &text);
    refused(
        &service,
        &["endpoint", "deploy", &file],
        &["line 1, column 12", "cannot be read"],
    );
    let text = format!("template = \"t\"\nmode = \"plain\"\n{}", small(""));
    let file = spec(files.path(), "desk", &text);
    refused(&service, &["endpoint", "deploy", &file], &["only conversations"]);
}

#[tokio::test]
async fn texts_are_kept_as_the_spec_says() {
    let files = TempDir::new().unwrap();
    for (service, said, kept) in [
        (Service::start(&[]), true, true),
        (Service::start(&["--record-texts"]), false, false),
    ] {
        deploy(&service, &files, "desk", &format!("[records]\ntexts = {said}"));
        answer(&service, "desk", json!({})).await;
        let listed = service.client_json(&["request", "list"]);
        let shown = service.client_json(&["request", "show", listed[0]["id"].as_str().unwrap()]);
        assert_eq!(shown["text"].is_object(), kept, "{shown}");
    }
}

#[tokio::test]
async fn what_takes_longer_than_its_limit_ends_and_says_so() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let slow = spec(files.path(), "slow", &small("limits.start = \"1ms\""));
    refused(
        &service,
        &["endpoint", "deploy", &slow],
        &["not ready after 0.001 s", "limits.start"],
    );
    deploy(&service, &files, "desk", "limits.answer = \"30ms\"");
    let long = json!({"max_tokens": 1500, "min_tokens": 1500});
    let cut = answer(&service, "desk", long.clone()).await;
    assert_eq!(cut["choices"][0]["finish_reason"], "length");
    let tokens = cut["usage"]["completion_tokens"].as_u64().unwrap();
    assert!(tokens < 1500, "{cut}");
    let listed = service.client_json(&["request", "list"]);
    assert_eq!(listed[0]["outcome"], "deadline");
    // Whoever calls a parked endpoint waits no longer than it lets one.
    deploy(&service, &files, "dock", "limits.wait = \"1ms\"");
    succeeded(&service, &["endpoint", "park", "dock"]);
    let refusal = service.send("/v1/chat/completions", &asked("dock", json!({}))).await;
    assert_eq!(refusal.status(), 503);
    assert!(refusal.headers().contains_key("retry-after"));
    let refusal: Value = refusal.json().await.unwrap();
    assert_eq!(refusal["error"]["code"], "starting", "{refusal}");
    let said = refusal["error"]["message"].as_str().unwrap();
    assert!(said.contains("limits.wait"), "{said}");
    wait_for_state(&service, "dock", "ready").await;
    answer(&service, "dock", json!({})).await;
}

#[tokio::test]
async fn what_only_changes_answers_applies_at_once_and_the_worker_goes_on() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&["--workers-stay", "60s"]);
    deploy(&service, &files, "desk", "");
    let process = service.endpoint().await["replicas"][0]["process"].clone();
    let long = asked("desk", json!({"max_tokens": 600, "min_tokens": 600, "stream": true}));
    let mut running = service.send("/v1/chat/completions", &long).await;
    running.chunk().await.unwrap();
    let file = spec(
        files.path(),
        "desk",
        &small("[defaults]\nmax_tokens = 3\n[limits]\nanswer = \"9s\""),
    );
    let said = succeeded(&service, &["endpoint", "check", &file]);
    assert!(
        said.contains("desk changes at once: the worker of release 1 goes on"),
        "{said}"
    );
    let said = succeeded(&service, &["endpoint", "deploy", &file]);
    assert!(said.contains("release 2") && !said.contains("ready after"), "{said}");
    let endpoint = service.endpoint().await;
    assert_eq!((&endpoint["release"], &endpoint["state"]), (&json!(2), &json!("ready")));
    assert_eq!(endpoint["replicas"][0]["process"], process);
    let short = answer(&service, "desk", json!({"max_tokens": null, "min_tokens": 3})).await;
    assert_eq!(short["usage"]["completion_tokens"], 3);
    // Whoever was being answered is, as before; the worker that both share is there for as long as either.
    let rest = running.text().await.unwrap();
    assert!(rest.contains("[DONE]"), "{rest}");
    service.kill_worker();
    service
        .wait_for("another worker", |endpoint| {
            endpoint["state"] == "ready" && endpoint["replicas"][0]["process"] != process
        })
        .await;
    answer(&service, "desk", json!({})).await;
    let gone = service.text("/metrics").await;
    assert!(
        gone.contains("vastrelay_workers_gone_total{endpoint=\"desk\",release=\"2\""),
        "{gone}"
    );
    // The next service takes its worker over, whatever release it was started for.
    let process = service.endpoint().await["replicas"][0]["process"].clone();
    let service = Service::start_in(service.kill(), &["--listen", "127.0.0.1:0"]);
    let endpoint = service.endpoint().await;
    assert_eq!(
        (&endpoint["replicas"][0]["process"], &endpoint["release"]),
        (&process, &json!(2))
    );
    // It is stopped with all that it answers, and nothing of it is left.
    succeeded(
        &service,
        &["endpoint", "deploy", &spec(files.path(), "desk", &small(""))],
    );
    succeeded(&service, &["endpoint", "stop", "desk", "--within", "0s"]);
    while !service.workers().is_empty() {
        tokio::task::yield_now().await;
    }
}
