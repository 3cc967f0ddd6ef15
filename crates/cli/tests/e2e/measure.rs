//! Load tests through the client: what they report is what the service saw.

use crate::support::Service;
use serde_json::{Value, json};
use std::process::{Command, Output, Stdio};

fn load(service: &Service, words: &[&str]) -> Value {
    service.client_json(&[&["load", "run"], words].concat())
}

fn out(output: &Output) -> String {
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[tokio::test]
async fn a_run_counts_what_the_service_counts_and_is_kept() {
    let service = Service::demo(&["--width", "4"]);
    let report = service.data.path().join("report.html");
    let rows = service.data.path().join("rows.csv");
    let whole = service.data.path().join("run.json");
    let files = [&report, &rows, &whole].map(|file| file.to_str().unwrap());
    let words = [
        "--users",
        "6",
        "--count",
        "60",
        "--warm-up",
        "0",
        "--name",
        "six",
        "--out",
        files[0],
        "--out",
        files[1],
        "--out",
        files[2],
    ];
    let summary = load(&service, &words);
    assert_eq!(
        (&summary["sent"], &summary["done"], &summary["errors"]),
        (&json!(60), &json!(60), &json!({}))
    );
    let calls = service.get("/manage/requests?most=1000").await.1;
    let calls = calls.as_array().unwrap();
    let tokens: u64 = calls.iter().map(|call| call["output_tokens"].as_u64().unwrap()).sum();
    assert_eq!(calls.len(), 60);
    let run: Value = serde_json::from_slice(&std::fs::read(&whole).unwrap()).unwrap();
    let requests = run["requests"].as_array().unwrap();
    assert_eq!(
        requests
            .iter()
            .map(|r| r["output_tokens"].as_u64().unwrap())
            .sum::<u64>(),
        tokens
    );
    let gaps: u64 = requests
        .iter()
        .map(|r| r["gaps_us"].as_array().unwrap().len() as u64)
        .sum();
    assert_eq!(gaps, tokens - 60, "each token has its moment");
    assert_eq!(run["workload"]["arrival"], json!({"kind": "closed", "users": 6}));
    assert_eq!(run["setup"]["before"]["occupancy"]["lanes"], 4);

    let page = std::fs::read_to_string(&report).unwrap();
    assert!(
        page.matches("<svg").count() == 4 && page.contains("TTFT") && !page.contains("<script"),
        "{page}"
    );
    let links =
        page.matches("http").count() - page.matches("http://www.w3.org/").count() - page.matches(&service.url).count();
    assert_eq!(links, 0, "it needs nothing from elsewhere");
    assert_eq!(std::fs::read_to_string(&rows).unwrap().lines().count(), 61);
    let listed = out(&service.client(&["load", "list"]));
    assert!(listed.contains("six") && listed.contains("TTFT p50"), "{listed}");
    let shown = out(&service.client(&["load", "show", "six"]));
    assert!(
        ["limit is not known", "tokens/s out", "end-to-end", "deepest queue"]
            .iter()
            .all(|word| shown.contains(word)),
        "{shown}"
    );
    assert_eq!(
        service.client_json(&["load", "show", files[2]]),
        service.client_json(&["load", "show", "last"])
    );
}

#[tokio::test]
async fn two_runs_are_compared_and_what_differs_is_told() {
    let service = Service::demo(&["--width", "8"]);
    for (name, users) in [("one", "1"), ("again", "1"), ("eight", "8")] {
        load(
            &service,
            &[
                "--users",
                users,
                "--count",
                "40",
                "--name",
                name,
                "--output",
                "32",
                "--force-length",
            ],
        );
    }
    let verdict = |comparison: &Value, figure: &str| {
        let rows = comparison["figures"].as_array().unwrap();
        let row = rows.iter().find(|row| row["name"] == figure).unwrap();
        row["verdict"].as_str().unwrap().to_owned()
    };
    let same = service.client_json(&["load", "compare", "one", "one"]);
    assert!(
        same["figures"]
            .as_array()
            .unwrap()
            .iter()
            .all(|row| row["verdict"] != "better" && row["verdict"] != "worse"),
        "{same}"
    );
    assert_eq!(same["differences"], json!([]));
    // Eight share a core that one had to itself.
    let other = service.client_json(&["load", "compare", "one", "eight"]);
    assert_eq!(verdict(&other, "ITL p50"), "worse", "{other}");
    let differs: Vec<&str> = other["differences"]
        .as_array()
        .unwrap()
        .iter()
        .map(|d| d["what"].as_str().unwrap())
        .collect();
    assert!(differs.contains(&"workload.arrival.users"), "{differs:?}");
    let text = out(&service.client(&["load", "compare", "one", "eight"]));
    assert!(
        ["B ÷ A", "95 % interval", "workload.arrival.users", "worse"]
            .iter()
            .all(|word| text.contains(word)),
        "{text}"
    );
    assert_eq!(
        service.client(&["load", "compare", "one", "none"]).status.code(),
        Some(1)
    );
}

#[tokio::test]
async fn runs_are_removed_by_name_and_a_wrong_name_removes_none() {
    let service = Service::demo(&[]);
    for name in ["dawn", "noon", "dusk"] {
        load(&service, &["--users", "1", "--count", "2", "--name", name]);
    }
    let names = || -> Vec<String> {
        let listed = service.client_json(&["load", "list"]);
        let runs = listed.as_array().unwrap().iter();
        runs.map(|run| run["name"].as_str().unwrap().to_owned()).collect()
    };
    let wrong = service.client(&["load", "remove", "dawn", "midnight"]);
    assert_eq!(wrong.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("there is no run `midnight`"));
    assert_eq!(names(), ["dusk", "noon", "dawn"]);
    let removed = service.client_json(&["load", "remove", "dawn", "last"]);
    assert_eq!(removed.as_array().unwrap().len(), 2);
    assert_eq!(names(), ["noon"]);
    let gone = format!("/manage/runs/{}", removed[0].as_str().unwrap());
    assert_eq!(service.get(&gone).await.0, 404);
    let events = service.client_json(&["event", "list"]);
    let removals = events
        .as_array()
        .unwrap()
        .iter()
        .filter(|event| event["what"] == "run_removed");
    assert_eq!(removals.count(), 2);
}

#[tokio::test]
async fn more_load_than_fits_is_refused_at_once_and_all_counts_agree() {
    let service = Service::demo(&["--width", "2", "--queue-depth", "3"]);
    let words = [
        "--arrival",
        "poisson",
        "--rate",
        "150",
        "--count",
        "300",
        "--warm-up",
        "0",
        "--output",
        "48",
        "--force-length",
    ];
    let summary = load(&service, &words);
    let refused = summary["errors"]["429 queue_full"].as_u64().unwrap();
    assert_eq!(summary["done"].as_u64().unwrap() + refused, 300, "{summary}");
    assert!(refused > 0 && summary["deepest_queue"].as_u64().unwrap() <= 3);
    assert!(
        summary["refusal"]["p50"].as_f64().unwrap() < summary["total"]["p50"].as_f64().unwrap() / 4.0,
        "{summary}"
    );
    // A machine that is busy with other tests may be too slow to send in time, and reports that.
    assert!(
        ["undetermined", "generator"]
            .map(|limit| json!(limit))
            .contains(&summary["limit"]),
        "{summary}"
    );
    let records = service.get("/manage/requests?most=1000&outcome=queue_full").await.1;
    assert_eq!(records.as_array().unwrap().len() as u64, refused);
    let metrics = reqwest::get(format!("{}/metrics", service.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert!(metrics.contains(&format!(
        "vastrelay_refusals_total{{endpoint=\"pierdesk\",release=\"1\",device=\"cpu\",simulated=\"false\",reason=\"queue_full\"}} {refused}\n"
    )));
    let model = service.endpoint().await;
    assert_eq!(
        (
            &model["occupancy"]["pages_used"],
            &model["occupancy"]["queue_depth"],
            &model["occupancy"]["lanes_used"]
        ),
        (&json!(0), &json!(0), &json!(0))
    );
}

#[tokio::test]
async fn both_sides_measure_the_same() {
    let service = Service::demo(&["--width", "4"]);
    let summary = load(
        &service,
        &[
            "--users",
            "2",
            "--count",
            "60",
            "--warm-up",
            "0",
            "--output",
            "24",
            "--force-length",
        ],
    );
    let calls = service.get("/manage/requests?most=1000").await.1;
    let mut ttft: Vec<f64> = calls
        .as_array()
        .unwrap()
        .iter()
        .map(|call| call["ttft"].as_f64().unwrap())
        .collect();
    ttft.sort_by(f64::total_cmp);
    // No bound on speed: what the one side saw the other saw later, and not before.
    assert!(summary["ttft"]["p50"].as_f64().unwrap() >= ttft[ttft.len() / 2] * 0.9);
    assert_eq!(summary["itl"]["count"], 60 * 23);
}

#[tokio::test]
async fn synthetic_prompts_reuse_nothing_but_what_they_share() {
    let service = Service::demo(&[]);
    let words = [
        "--synthetic",
        "100",
        "--count",
        "12",
        "--users",
        "2",
        "--output",
        "4",
        "--force-length",
    ];
    let apart = load(&service, &words);
    assert!(apart["done"] == 12 && apart["reused_share"] == 0.0, "{apart}");
    let shared = load(
        &service,
        &[&words[..], &["--shared-prefix", "64", "--seed", "5"]].concat(),
    );
    assert!(shared["reused_share"].as_f64().unwrap() > 0.4, "{shared}");
}

#[tokio::test]
async fn poisson_steps_and_files_work_and_mistakes_are_told_before_anything_is_sent() {
    let service = Service::demo(&[]);
    let poisson = load(&service, &["--arrival", "poisson", "--rate", "40", "--duration", "2s"]);
    assert!(poisson["sent"].as_u64().unwrap() > 40, "{poisson}");
    let steps = load(
        &service,
        &[
            "--arrival",
            "steps",
            "--steps",
            "1,3",
            "--each",
            "1s",
            "--prompts",
            "follow-ups",
        ],
    );
    assert!(
        steps["done"].as_u64().unwrap() > 2 && steps["errors"] == json!({}),
        "{steps}"
    );
    let file = service.data.path().join("letters.jsonl");
    std::fs::write(
        &file,
        "{\"prompt\": \"The boat\"}\n{\"question\": \"Can I bring my dog?\"}\n",
    )
    .unwrap();
    let file = file.to_str().unwrap();
    assert_eq!(
        load(
            &service,
            &["--prompts", file, "--count", "4", "--users", "1", "--forget"]
        )["done"],
        4
    );
    std::fs::write(file, "{\"promt\": 1}\n").unwrap();
    let before = service.get("/manage/status").await.1["calls_recorded"].clone();
    for (words, word) in [
        (vec!["--prompts", file], "line 1"),
        (vec!["--prompts", "nowhere.jsonl"], "questions, follow-ups"),
        (vec!["--out", "report.pdf"], ".html, .csv or .json"),
        (vec!["--output", "x"], "64..256"),
        (vec!["--users", "0"], "1 to 10,000"),
        (vec!["--force-length"], "--output"),
    ] {
        let output = service.client(&[&["load", "run"], words.as_slice()].concat());
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(
            output.status.code() == Some(2) && error.contains(word),
            "{words:?}: {error}"
        );
    }
    assert_eq!(service.get("/manage/status").await.1["calls_recorded"], before);
}

#[tokio::test]
async fn ctrl_c_ends_a_run_early_and_keeps_what_it_has() {
    let service = Service::demo(&[]);
    let child = service
        .command()
        .args([
            "load",
            "run",
            "--users",
            "2",
            "--duration",
            "10m",
            "--name",
            "cut",
            "--url",
            &service.url,
        ])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    service
        .wait_for("it runs", |m| m["totals"]["ended"].as_u64().unwrap() > 6)
        .await;
    let sent = Command::new("kill")
        .args(["-INT", &child.id().to_string()])
        .status()
        .unwrap();
    assert!(sent.success());
    let output = child.wait_with_output().unwrap();
    assert!(out(&output).contains("stopped early"), "{}", out(&output));
    assert!(service.client_json(&["load", "show", "cut"])["done"].as_u64().unwrap() > 0);
}

/// The picture itself has its tests beside it; here it has no terminal.
#[tokio::test]
async fn watch_wants_a_terminal() {
    let service = Service::demo(&[]);
    let output = service.client(&["watch"]);
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("vastrelay status"));
}

#[tokio::test]
async fn the_live_stream_tells_status_steps_and_calls() {
    use futures_util::StreamExt;
    let service = Service::demo(&[]);
    let live = service.call(reqwest::Method::GET, "/manage/live").send().await;
    let mut body = live.unwrap().bytes_stream();
    let mut text = String::new();
    let mut asked = false;
    while !["event: status", "event: steps", "event: call"]
        .iter()
        .all(|event| text.contains(event))
    {
        text.push_str(&String::from_utf8_lossy(&body.next().await.unwrap().unwrap()));
        if !asked {
            asked = true;
            service.ask("Hello").await;
        }
    }
    for event in text
        .split("\n\n")
        .filter(|event| event.starts_with("event: ") && event.ends_with('}'))
    {
        let data = event.split_once("data: ").unwrap().1;
        serde_json::from_str::<Value>(data).unwrap();
    }
}

/// Returns the lines of a service's log that sum up what an endpoint did.
fn summaries(service: &Service, endpoint: &str) -> Vec<String> {
    let of_it = format!("endpoint=\"{endpoint}\"");
    let log = service.log();
    let lines = log
        .lines()
        .filter(|line| line.contains("summary") && line.contains(&of_it));
    lines.map(str::to_owned).collect()
}

/// Returns the calls that such lines have counted together.
fn completions(lines: &[String]) -> u64 {
    let of = |line: &String| {
        let (_, rest) = line.split_once("completions=").unwrap();
        rest.split(' ').next().unwrap().parse::<u64>().unwrap()
    };
    lines.iter().map(of).sum()
}

#[tokio::test]
async fn the_log_sums_up_what_was_done_and_is_silent_when_nothing_was() {
    let model = crate::support::repository().join("demo/models/pierdesk-1");
    let [quiet, busy] = ["quiet", "busy"].map(|name| format!("{name}={}", model.display()));
    let service = Service::start(&["--model", &quiet, "--model", &busy, "--summary", "300ms"]);
    service.client(&["ask", "--model", "quiet", "Hello"]);
    // A call that runs when the time comes round has two lines.
    while completions(&summaries(&service, "quiet")) < 1 {}
    let of_quiet = summaries(&service, "quiet");
    let line = of_quiet.last().unwrap();
    for word in [
        "completions=1",
        "tokens_out_per_s=",
        "ttft_p50_ms=",
        "itl_p99_ms=",
        "queue=0",
    ] {
        assert!(line.contains(word), "{word} in {line}");
    }
    // The time comes round for both at once.
    for round in 1..=3 {
        service.client(&["ask", "--model", "busy", "Hello"]);
        while completions(&summaries(&service, "busy")) < round {}
    }
    assert_eq!(summaries(&service, "quiet"), of_quiet);
}
