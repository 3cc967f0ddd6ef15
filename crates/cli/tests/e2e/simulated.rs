//! A large model on devices that are not here: it streams as any other, and says everywhere that it is simulated.

use crate::support::{Service, chat, frames, repository, vastrelay, with};
use serde_json::{Value, json};
use tempfile::TempDir;

fn large() -> String {
    format!("big={}", repository().join("demo/shapes/lighthouse-70b").display())
}

/// The words that start it over so many devices.
fn words(split: &str) -> Vec<String> {
    let words = [
        "--device",
        "sim-48g",
        "--split",
        split,
        "--context",
        "8192",
        "--step-budget",
        "512",
    ];
    let model = ["--model".to_owned(), large()];
    model.into_iter().chain(words.map(str::to_owned)).collect()
}

fn start(more: &[&str]) -> Service {
    let words = words("4");
    let words: Vec<&str> = words.iter().map(String::as_str).chain(more.iter().copied()).collect();
    Service::start(&words)
}

fn ask(question: &str) -> Value {
    with(chat(question), json!({"model": "big", "max_tokens": 6, "seed": 7}))
}

#[tokio::test]
async fn a_large_model_streams_and_is_marked_simulated_wherever_it_shows() {
    let service = start(&[]);
    let answer = service.send("/v1/chat/completions", &ask("Hello")).await;
    assert_eq!(answer.headers()["x-vastrelay-simulated"], "sim-48g");
    let whole: Value = answer.json().await.unwrap();
    assert_eq!(whole["system_fingerprint"], "simulated sim-48g");
    assert_eq!(whole["usage"]["completion_tokens"], 6);
    let streamed = with(ask("Hello"), json!({"stream": true}));
    let body = service
        .send("/v1/chat/completions", &streamed)
        .await
        .text()
        .await
        .unwrap();
    let pieces: Vec<Value> = frames(&body)
        .iter()
        .filter_map(|frame| serde_json::from_str(frame).ok())
        .collect();
    assert!(
        pieces
            .iter()
            .all(|piece| piece["system_fingerprint"] == "simulated sim-48g")
    );
    let text: String = pieces
        .iter()
        .filter_map(|piece| piece["choices"][0]["delta"]["content"].as_str())
        .collect();
    assert_eq!(
        whole["choices"][0]["message"]["content"], text,
        "the same seed says the same"
    );
    let asked = service.client(&["ask", "Hello", "--model", "big", "--max-tokens", "3"]);
    let said = String::from_utf8_lossy(&asked.stderr).into_owned();
    assert!(said.contains("simulated on sim-48g"), "{said}");
    let status = service.client_json(&["status"]);
    assert_eq!(
        (&status["endpoints"][0]["device"], &status["endpoints"][0]["simulated"]),
        (&json!("sim-48g"), &json!(true))
    );
    let shown = service.client(&["status"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("4 × sim-48g (simulated)"), "{shown}");
    let record = &service.get("/manage/requests?most=1").await.1[0];
    assert_eq!(
        (&record["device"], &record["simulated"]),
        (&json!("sim-48g"), &json!(true))
    );
    let shown = service.client(&["request", "show", "last"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("replica 1 on sim-48g (simulated)"), "{shown}");
    let metrics = reqwest::get(format!("{}/metrics", service.url)).await.unwrap();
    let metrics = metrics.text().await.unwrap();
    assert!(metrics.contains("simulated=\"true\""), "{metrics}");
    let run = service.client(&[
        "load", "run", "--model", "big", "--users", "2", "--count", "4", "--output", "4",
    ]);
    let report = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(report.contains("big on sim-48g (simulated)"), "{report}");
}

#[test]
fn what_does_not_fit_is_refused_with_the_arithmetic_and_what_would() {
    for (split, parts) in [
        ("2", ["more than its limit of 48.0 GiB", "a split of 4 or 8 would fit"]),
        ("3", ["does not divide 64 query heads", "use 1, 2, 4"]),
        ("16", ["there are 8 devices", "a split of 4 or 8 would fit"]),
    ] {
        let data = TempDir::new().unwrap();
        let output = vastrelay()
            .args(["start", "--listen", "127.0.0.1:0", "--data"])
            .arg(data.path())
            .args(words(split))
            .output()
            .unwrap();
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success(), "{split}");
        for part in parts {
            assert!(error.contains(part), "{split}: {part}: {error}");
        }
    }
}

#[tokio::test]
async fn endpoints_share_devices_until_they_are_full_and_who_holds_them_is_said() {
    let service = start(&["--memory-share", "0.8"]);
    let deploy = |name: &str| {
        let path = repository().join("demo/shapes/lighthouse-70b");
        let named = format!("{name}={}", path.display());
        service.client(&["endpoint", "deploy", &named])
    };
    // Four of the eight are free.
    assert!(deploy("second").status.success());
    let output = deploy("third");
    let error = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(!output.status.success());
    assert!(error.contains("endpoints on this device hold: `big`"), "{error}");
    let device = &service.client_json(&["device", "list"])[1];
    assert_eq!(
        (&device["name"], &device["simulated"]),
        (&json!("sim-48g"), &json!(true))
    );
    for place in device["places"].as_array().unwrap() {
        let [owner] = place["owners"].as_array().unwrap().as_slice() else {
            panic!("{place}")
        };
        let parts = ["weights", "workspace", "process", "kv_reserved"].map(|part| owner[part].as_u64().unwrap());
        let all = parts.iter().sum::<u64>() + place["free"].as_u64().unwrap() + place["others"].as_u64().unwrap();
        assert_eq!(all, device["memory"].as_u64().unwrap(), "it adds up");
    }
    let shown = service.client(&["device", "list"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(
        shown.contains("second, release 1") && shown.contains("8 × sim-48g (simulated)"),
        "{shown}"
    );
    assert!(service.client(&["endpoint", "remove", "big"]).status.success());
    assert!(deploy("third").status.success());
}

/// Returns the service's device, each of which has one owner and adds up to its memory.
fn device_that_adds_up(service: &Service) -> Value {
    let device = service.client_json(&["device", "list"])[0].take();
    for place in device["places"].as_array().unwrap() {
        let [owner] = place["owners"].as_array().unwrap().as_slice() else {
            panic!("{place}")
        };
        let bytes = |value: &Value| value.as_u64().unwrap();
        let parts = ["weights", "workspace", "process", "kv_reserved"].map(|part| bytes(&owner[part]));
        let all = parts.iter().sum::<u64>() + bytes(&place["free"]) + bytes(&place["others"]);
        assert_eq!(all, bytes(&device["memory"]), "{place}");
    }
    device
}

#[tokio::test]
async fn the_machine_is_a_device_like_any_other() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    let device = device_that_adds_up(&service);
    assert_eq!((&device["name"], &device["simulated"]), (&json!("cpu"), &json!(false)));
    let owner = &device["places"][0]["owners"][0];
    assert!(owner["busy_share"].as_f64().unwrap() > 0.0);
    let profile = vastrelay().args(["device", "show", "sim-80g"]).output().unwrap();
    let profile = String::from_utf8_lossy(&profile.stdout).into_owned();
    assert!(profile.contains("80.0 GiB") && profile.contains("an hour"), "{profile}");
}

/// Width, precision of keys and values, fraction of memory, and context.
type Cell = (&'static str, &'static str, &'static str, &'static str);

/// Returns the settings of a cell as the command line takes them.
fn of_cell((width, kv, share, context): Cell) -> [&'static str; 14] {
    [
        "--device",
        "sim-48g",
        "--step-budget",
        "512",
        "--weights",
        "int8",
        "--width",
        width,
        "--kv",
        kv,
        "--memory-share",
        share,
        "--context",
        context,
    ]
}

/// Returns what `fit` says of four devices.
fn fitted(cell: Cell, more: &[&str]) -> Value {
    let output = vastrelay()
        .arg("fit")
        .arg(repository().join("demo/shapes/lighthouse-70b"))
        .args(of_cell(cell))
        .args(more)
        .arg("--json")
        .output()
        .unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    report["ways"][3].clone()
}

#[tokio::test]
async fn what_fits_and_how_fast_it_is_are_what_the_arithmetic_says() {
    let mut seen = std::collections::BTreeSet::new();
    for width in ["4", "256"] {
        for kv in ["bf16", "int8"] {
            for (share, context) in [("0.5", "2048"), ("0.5", "32768"), ("0.9", "2048"), ("0.9", "32768")] {
                let cell = (width, kv, share, context);
                let typical = ["--typical", "2+16"];
                let predicted = fitted(cell, &typical);
                let model = large();
                let words = [&["--model", &model, "--split", "4"][..], &of_cell(cell), &typical].concat();
                let service = Service::start(&words);
                let endless =
                    json!({"model": "big", "prompt": "Hello", "max_tokens": 16, "min_tokens": 16, "temperature": 0});
                assert_eq!(service.post("/v1/completions", &endless).await.0, 200);
                let endpoint = service.endpoint().await;
                let replica = &endpoint["replicas"][0];
                let memory = &replica["memory"];
                assert_eq!(memory["weights"], predicted["weights_bytes"], "{cell:?}");
                assert_eq!(memory["workspace"], predicted["workspace_bytes"], "{cell:?}");
                assert_eq!(memory["kv_pool"], predicted["kv_pool_bytes"], "{cell:?}");
                let full = &replica["capacity"]["full"];
                assert_eq!(full, &predicted["capacity"]["full"], "{cell:?}");
                seen.insert(full["in_pool"].as_u64().unwrap() + full["in_rest"].as_u64().unwrap());
                // They never take less; how much more on a machine with other things to do is for a benchmark.
                let totals = &endpoint["totals"];
                let step = totals["busy"].as_f64().unwrap() / totals["steps"].as_f64().unwrap();
                let ratio = step / predicted["predicted"]["itl"].as_f64().unwrap();
                assert!(ratio > 0.97, "{cell:?}: {ratio}");
            }
        }
    }
    assert!(seen.len() >= 8, "each setting changes what fits: {seen:?}");
}

#[tokio::test]
async fn the_queue_begins_where_the_sequences_end_that_fit() {
    let cell = ("64", "bf16", "0.42", "2048");
    let typical = ["--typical", "600+100"];
    let fits = fitted(cell, &typical)["capacity"]["typical"]["in_pool"]
        .as_u64()
        .unwrap();
    assert!((20..50).contains(&fits), "{fits}");
    // A tenth fewer are all in the batch together to their end; of a tenth more some wait or are put back.
    for (users, all_run) in [(fits - fits.div_ceil(10), true), (fits + fits.div_ceil(10), false)] {
        let model = large();
        let words = [&["--model", &model, "--split", "4"][..], &of_cell(cell), &typical].concat();
        let service = Service::start(&words);
        let users = users.to_string();
        let words = ["load", "run", "--model", "big", "--users", &users, "--count", &users];
        let lengths = ["--synthetic", "600", "--output", "100", "--force-length"];
        let run = service.client_json(&[&words[..], &lengths].concat());
        assert_eq!(run["done"].to_string(), users);
        let steps = service.get("/manage/endpoints/big/steps").await.1;
        let lanes = |step: &Value| step["lanes"].as_array().unwrap().len();
        let most = steps["steps"].as_array().unwrap().iter().map(lanes).max().unwrap();
        let preempted = service.endpoint().await["totals"]["preemptions"].as_u64().unwrap();
        let together = most.to_string() == users && preempted == 0;
        assert_eq!(
            together, all_run,
            "{users} users, {fits} fit: {most} at once, {preempted} preempted"
        );
    }
}

#[tokio::test]
async fn a_model_is_served_with_the_width_and_budget_that_it_is_fitted_with() {
    let model = repository().join("demo/models/pierdesk-1");
    let (model, named) = (model.display().to_string(), format!("desk={}", model.display()));
    let service = Service::start(&["--model", &named, "--device", "sim-24g"]);
    let endpoint = service.endpoint().await;
    let fitted = vastrelay()
        .args(["fit", &model, "--device", "sim-24g", "--json"])
        .output()
        .unwrap();
    let fitted: Value = serde_json::from_slice(&fitted.stdout).unwrap();
    for setting in ["width", "step_budget"] {
        assert_eq!(endpoint["replicas"][0][setting], fitted[setting], "{setting}");
    }
}
