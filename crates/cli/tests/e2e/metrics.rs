//! Figures for scrapers, checked with the real scraper.

use crate::support::{Service, chat, repository, with};
use serde_json::{Value, json};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// Returns the sum of all samples whose name and labels begin so.
fn sum(text: &str, start: &str) -> f64 {
    let lines = text.lines().filter(|line| line.starts_with(start));
    lines
        .filter_map(|line| line.rsplit(' ').next()?.parse::<f64>().ok())
        .sum()
}

async fn scrape(service: &Service) -> String {
    reqwest::get(format!("{}/metrics", service.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap()
}

#[tokio::test]
async fn counts_are_those_of_the_calls_that_were_made() {
    let service = Service::demo(&["--width", "4"]);
    let mut tokens = 0;
    for _ in 0..3 {
        let (_, answer) = service.post("/v1/chat/completions", &chat("Can I bring my dog?")).await;
        tokens += answer["usage"]["completion_tokens"].as_u64().unwrap();
    }
    service
        .post(
            "/v1/completions",
            &json!({"model": "pierdesk", "prompt": "A", "max_tokens": 2}),
        )
        .await;
    service
        .post("/v1/chat/completions", &with(chat("Hello"), json!({"temperature": 9})))
        .await;
    service.get("/manage/requests").await;
    service
        .wait_for("steps are counted", |m| m["occupancy"]["lanes_used"] == 0)
        .await;
    let mut text = scrape(&service).await;
    // The sampler counts steps some time later.
    while sum(&text, "vastrelay_step_seconds_count") < sum(&text, "vastrelay_steps_total") {
        text = scrape(&service).await;
    }
    let ours = "{endpoint=\"pierdesk\",release=\"1\",device=\"cpu\",simulated=\"false\"";
    for (start, wanted) in [
        (
            "gen_ai_server_time_to_first_token_seconds_count{gen_ai_operation_name=\"chat\"",
            3.0,
        ),
        (
            "gen_ai_server_time_to_first_token_seconds_count{gen_ai_operation_name=\"text_completion\"",
            1.0,
        ),
        ("gen_ai_server_request_duration_seconds_count", 5.0),
        ("gen_ai_server_time_per_output_token_seconds_count", 4.0),
        (
            "gen_ai_client_token_usage_sum{gen_ai_operation_name=\"chat\",gen_ai_request_model=\"pierdesk\",release=\"1\",device=\"cpu\",simulated=\"false\",gen_ai_token_type=\"output\"",
            tokens as f64,
        ),
        (
            &format!("vastrelay_inter_token_seconds_count{ours}"),
            (tokens - 3 + 1) as f64,
        ),
        (&format!("vastrelay_output_tokens_total{ours}"), (tokens + 2) as f64),
        (
            &format!("vastrelay_refusals_total{ours},reason=\"invalid_value\"}}"),
            1.0,
        ),
        (&format!("vastrelay_lanes{ours}"), 4.0),
        (&format!("vastrelay_queue_depth{ours}"), 0.0),
        (&format!("vastrelay_kv_pages_used{ours}"), 0.0),
        (
            "vastrelay_http_request_seconds_count{route=\"/v1/chat/completions\",method=\"POST\",status=\"200\"}",
            3.0,
        ),
    ] {
        assert_eq!(sum(&text, start), wanted, "{start} in\n{text}");
    }
    assert!(sum(&text, "vastrelay_memory_bytes") > 1e6);
    assert!(text.ends_with("# EOF\n"));
}

fn succeeded(output: &Output) {
    let said = [&output.stdout, &output.stderr].map(|bytes| String::from_utf8_lossy(bytes).into_owned());
    assert!(output.status.success(), "{said:?}");
}

#[test]
fn alert_rules_and_the_scrape_example_are_right() {
    let folder = repository().join("deploy/prometheus");
    let tool = |words: &[&str]| {
        succeeded(
            &Command::new("promtool")
                .args(words)
                .current_dir(&folder)
                .output()
                .unwrap(),
        )
    };
    tool(&["check", "config", "prometheus.yml"]);
    tool(&["test", "rules", "alerts_test.yml"]);
    // Every name that a rule uses is one that is measured.
    let rules = std::fs::read_to_string(folder.join("alerts.yml")).unwrap();
    let known = std::fs::read_to_string(repository().join("docs/reference.md")).unwrap();
    let words = rules.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    for name in words.filter(|word| word.starts_with("vastrelay_") || word.starts_with("gen_ai_server_")) {
        assert!(
            known.contains(name.trim_end_matches("_bucket")),
            "{name} is not in the reference"
        );
    }
}

struct Prometheus(Child);

impl Prometheus {
    /// Starts the real one with the example's configuration on a service; returns it with its address.
    fn start(service: &Service) -> (Prometheus, String) {
        let folder = service.data.path().join("prometheus");
        std::fs::create_dir(&folder).unwrap();
        let example = repository().join("deploy/prometheus");
        std::fs::copy(example.join("alerts.yml"), folder.join("alerts.yml")).unwrap();
        let config = std::fs::read_to_string(example.join("prometheus.yml")).unwrap();
        let config = config
            .replace("127.0.0.1:7411", service.url.trim_start_matches("http://"))
            .replace("_interval: 5s", "_interval: 1s");
        std::fs::write(folder.join("prometheus.yml"), config).unwrap();
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap().to_string();
        drop(listener);
        let started = Command::new("prometheus")
            .arg(format!("--config.file={}", folder.join("prometheus.yml").display()))
            .arg(format!("--storage.tsdb.path={}", folder.join("tsdb").display()))
            .arg(format!("--web.listen-address={address}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        (Prometheus(started.unwrap()), address)
    }
}

/// Asks Prometheus for a query; returns its series.
async fn series(address: &str, query: &str) -> Vec<Value> {
    let url = format!("http://{address}/api/v1/query");
    let url = reqwest::Url::parse_with_params(&url, [("query", query)]).unwrap();
    let Ok(answer) = reqwest::get(url).await else {
        return Vec::new();
    };
    let answer: Value = answer.json().await.unwrap_or_default();
    assert_ne!(answer["status"], "error", "{query}: {answer}");
    answer["data"]["result"].as_array().cloned().unwrap_or_default()
}

#[tokio::test]
async fn every_query_of_the_dashboard_returns_a_series_under_load() {
    let service = Service::demo(&[]);
    let shape = repository().join("demo/shapes/harbour-8b");
    let spec = service.data.path().join("harbour.toml");
    let text = format!("model = \"{}\"\n[device]\nprofile = \"sim-48g\"\n", shape.display());
    std::fs::write(&spec, text).unwrap();
    service.client_json(&["endpoint", "deploy", &spec.display().to_string()]);
    let (_prometheus, address) = Prometheus::start(&service);
    let text = std::fs::read_to_string(repository().join("deploy/prometheus/dashboard.toml")).unwrap();
    let dashboard: toml::Table = toml::from_str(&text).unwrap();
    let panels = dashboard["panel"].as_array().unwrap();
    assert!(panels.len() >= 12);
    let queries = panels.iter().flat_map(|panel| panel["queries"].as_array().unwrap());
    let mut missing: Vec<&str> = queries.map(|query| query.as_str().unwrap()).collect();
    let begun = Instant::now();
    while !missing.is_empty() {
        for model in ["pierdesk", "harbour"] {
            let call = with(chat("Hello"), json!({"model": model, "max_tokens": 4}));
            assert_eq!(service.post("/v1/chat/completions", &call).await.0, 200);
        }
        let wrong = with(chat("Hello"), json!({"temperature": 9}));
        assert_eq!(service.post("/v1/chat/completions", &wrong).await.0, 400);
        let mut still = Vec::new();
        for query in missing {
            if series(&address, query).await.is_empty() {
                still.push(query);
            }
        }
        missing = still;
        assert!(begun.elapsed() < Duration::from_secs(120), "no series: {missing:#?}");
    }
    // Each device's memory adds up to what it has.
    let memory = "sum by (device, number) (vastrelay_device_memory_bytes{device=\"sim-48g\"})";
    let all = series(&address, memory).await;
    assert_eq!(all.len(), 8);
    assert!(
        all.iter().all(|one| one["value"][1].as_str() == Some("51539607552")),
        "{all:?}"
    );
}

impl Drop for Prometheus {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test]
async fn the_real_prometheus_scrapes_it_by_the_example() {
    let service = Service::demo(&[]);
    service.ask("Hello").await;
    let (_prometheus, address) = Prometheus::start(&service);
    let ask = async |query: &str| -> Option<f64> {
        let all = series(&address, query).await;
        all.first()?["value"][1].as_str()?.parse().ok()
    };
    let begun = Instant::now();
    while ask("up{job=\"vastrelay\"}").await != Some(1.0) {
        assert!(begun.elapsed() < Duration::from_secs(60), "it never came up");
    }
    for (query, wanted) in [
        ("vastrelay_lanes{endpoint=\"pierdesk\",replica=\"1\"}", 16.0),
        ("vastrelay_completions_total{endpoint=\"pierdesk\",release=\"1\"}", 1.0),
        ("gen_ai_server_time_to_first_token_seconds_count", 1.0),
    ] {
        assert_eq!(ask(query).await, Some(wanted), "{query}");
    }
    let rules: Value = reqwest::get(format!("http://{address}/api/v1/rules"))
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let rules = rules["data"]["groups"][0]["rules"].as_array().unwrap().clone();
    assert_eq!(rules.len(), 7);
}
