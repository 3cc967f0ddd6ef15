//! The command line.

use crate::support::{Service, vastrelay};
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Output, Stdio};

fn out(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn err(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[tokio::test]
async fn ask_streams_a_right_answer() {
    let service = Service::demo(&[]);
    let output = service.client(&["ask", "When is the last boat back on Sunday?"]);
    assert!(output.status.success(), "{}", err(&output));
    for fact in ["Tolsay at 18:00", "Eddersay at"] {
        assert!(out(&output).contains(fact), "{}", out(&output));
    }
    let figures = out(&service.client(&["ask", "--figures", "Can I bring my dog?"]));
    assert!(
        ["TTFT", "ITL mean", "free", "end-token"]
            .iter()
            .all(|word| figures.contains(word)),
        "{figures}"
    );
    let json: Value = serde_json::from_str(&out(&service.client(&["ask", "--json", "Hello"]))).unwrap();
    assert_eq!(json["object"], "chat.completion");
    let cut = service.client(&["ask", "--max-tokens", "3", "Hello"]);
    assert!(err(&cut).contains("--max-tokens"), "{}", err(&cut));
}

#[tokio::test]
async fn ask_reads_what_is_piped_in() {
    let service = Service::demo(&[]);
    let mut child = service
        .command()
        .args(["ask", "--url", &service.url])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all("How long does it take to Eddersay?\n".as_bytes())
        .unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(out(&output).contains("70 minutes"), "{}", out(&output));
}

#[tokio::test]
async fn a_typed_question_does_not_wait_for_a_pipe_that_stays_open() {
    let service = Service::demo(&[]);
    let mut child = service
        .command()
        .args(["ask", "--url", &service.url, "Hello"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let held_open = child.stdin.take().unwrap();
    let output = child.wait_with_output().unwrap();
    drop(held_open);
    assert!(out(&output).contains("passenger desk"), "{}", out(&output));
}

#[tokio::test]
async fn ctrl_c_takes_the_request_out_of_the_batch() {
    let service = Service::demo(&[]);
    // Drawn at high temperature without an end in sight, the answer is long.
    let mut child = service
        .command()
        .args([
            "ask",
            "--temperature",
            "2",
            "--seed",
            "1",
            "--url",
            &service.url,
            "List all timetables of all piers",
        ])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = [0u8; 1];
    child.stdout.as_mut().unwrap().read_exact(&mut first).unwrap();
    let sent = std::process::Command::new("kill")
        .args(["-INT", &child.id().to_string()])
        .status()
        .unwrap();
    assert!(sent.success());
    let output = child.wait_with_output().unwrap();
    // It may have ended by itself just before; then it was a success.
    assert!(
        output.status.success() || err(&output).contains("cancelled"),
        "{}",
        err(&output)
    );
    service
        .wait_for("an empty batch", |m| {
            m["occupancy"]["lanes_used"] == 0 && m["occupancy"]["pages_used"] == 0
        })
        .await;
}

#[tokio::test]
async fn status_shows_how_things_stand() {
    let service = Service::demo(&["--width", "5"]);
    service.ask("Hello").await;
    let text = out(&service.client(&["status"]));
    assert!(
        ["pierdesk", "0 of 5", "ready", "KV pool"]
            .iter()
            .all(|word| text.contains(word)),
        "{text}"
    );
    let json: Value = serde_json::from_str(&out(&service.client(&["status", "--json"]))).unwrap();
    assert_eq!(
        (&json["state"], &json["endpoints"][0]["replicas"][0]["width"]),
        (&"ready".into(), &5.into())
    );
}

#[tokio::test]
async fn requests_list_shows_what_was_answered_and_what_was_refused() {
    let service = Service::demo(&[]);
    assert!(out(&service.client(&["request", "list"])).contains("no matching requests"));
    service.ask("Can I bring my dog?").await;
    service.client(&["ask", "--model", "oyster", "Hello"]);
    let text = out(&service.client(&["request", "list"]));
    assert!(
        ["end-token", "model_not_found", "404", "TTFT"]
            .iter()
            .all(|word| text.contains(word)),
        "{text}"
    );
    let listed = out(&service.client(&["request", "list", "--json", "--most", "1"]));
    let calls: Value = serde_json::from_str(&listed).unwrap();
    assert_eq!(
        (calls.as_array().unwrap().len(), &calls[0]["endpoint"]),
        (1, &"oyster".into())
    );
}

#[tokio::test]
async fn a_reader_who_goes_away_is_no_reason_to_panic() {
    let service = Service::demo(&[]);
    for words in [
        &["status"][..],
        &["request", "list"],
        &["ask", "Hello"],
        &["ask", "--json", "Hello"],
    ] {
        let mut child = service
            .command()
            .args(words)
            .args(["--url", &service.url])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let output = child.wait_with_output().unwrap();
        assert_eq!(
            (output.status.code(), err(&output)),
            (Some(0), String::new()),
            "{words:?}"
        );
    }
}

#[tokio::test]
async fn start_prints_the_arithmetic_of_memory() {
    let service = Service::demo(&["--context", "1024", "--pages", "640"]);
    let greeting = &service.greeting;
    for line in [
        "weights",
        "KV pool",
        "640 pages × 16.0 KiB",
        "at once: 10 sequences of 1,024 tokens",
        "memory.pages = 1024",
    ] {
        assert!(greeting.contains(line), "{line} in {greeting}");
    }
}

#[test]
fn failures_have_their_exit_codes_and_say_what_would_work() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().to_str().unwrap();
    let nowhere = format!("desk={data}/nowhere");
    let empty = format!("desk={data}");
    std::fs::write(
        folder.path().join("config.json"),
        r#"{"architectures": ["StrangeForCausalLM"]}"#,
    )
    .unwrap();
    let cases: [(&[&str], i32, &str); 11] = [
        (
            &["ask", "--url", "http://127.0.0.1:9", "Hello"],
            3,
            "vastrelay start --demo",
        ),
        (&["status", "--url", "http://127.0.0.1:9"], 3, "nothing listens there"),
        (&["ask", "--url", "not an address", "Hello"], 2, "not an address"),
        (&["ask"], 2, "no question"),
        (&["fly"], 2, "unrecognized subcommand"),
        (
            &["start", "--demo", "--data", data, "--listen", "0.0.0.0:0"],
            1,
            "vastrelay key create",
        ),
        (
            &["start", "--model", &nowhere, "--data", data, "--listen", "127.0.0.1:0"],
            1,
            "config.json",
        ),
        (
            &["start", "--model", &empty, "--data", data, "--listen", "127.0.0.1:0"],
            1,
            "`architectures`",
        ),
        (
            &[
                "start",
                "--demo",
                "--width",
                "0",
                "--data",
                data,
                "--listen",
                "127.0.0.1:0",
            ],
            1,
            "width of 0",
        ),
        (
            &[
                "start",
                "--demo",
                "--context",
                "4096",
                "--data",
                data,
                "--listen",
                "127.0.0.1:0",
            ],
            1,
            "1 to 2048",
        ),
        (
            &[
                "start",
                "--demo",
                "--memory-share",
                "0.00001",
                "--data",
                data,
                "--listen",
                "127.0.0.1:0",
            ],
            1,
            "memory.share = ",
        ),
    ];
    for (words, code, text) in cases {
        let output = vastrelay().args(words).stdin(Stdio::null()).output().unwrap();
        assert_eq!(output.status.code(), Some(code), "{words:?}: {}", err(&output));
        assert!(err(&output).contains(text), "{words:?}: {}", err(&output));
    }
}

#[tokio::test]
async fn a_taken_address_is_said_before_anything_is_loaded() {
    let service = Service::demo(&[]);
    let address = service.url.trim_start_matches("http://");
    let folder = tempfile::tempdir().unwrap();
    let words = [
        "start",
        "--demo",
        "--listen",
        address,
        "--data",
        folder.path().to_str().unwrap(),
    ];
    let output = vastrelay().args(words).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(err(&output).contains("cannot listen"), "{}", err(&output));
}

#[tokio::test]
async fn with_several_models_ask_wants_to_know_which() {
    let model = crate::support::repository().join("demo/models/pierdesk-1");
    let (one, two) = (format!("one={}", model.display()), format!("two={}", model.display()));
    let service = Service::start(&["--model", &one, "--model", &two]);
    let unsure = service.client(&["ask", "Hello"]);
    assert_eq!(unsure.status.code(), Some(2));
    assert!(err(&unsure).contains("one, two"), "{}", err(&unsure));
    assert!(out(&service.client(&["ask", "--model", "two", "Hello"])).contains("passenger desk"));
    assert_eq!(
        service.client(&["ask", "--model", "three", "Hello"]).status.code(),
        Some(1)
    );
}

#[tokio::test]
async fn status_fits_into_a_narrow_terminal() {
    let service = Service::demo(&[]);
    for columns in ["40", "99", "100"] {
        let output = service
            .command()
            .args(["status", "--url", &service.url])
            .env("COLUMNS", columns)
            .output()
            .unwrap();
        let text = out(&output);
        assert!(text.contains("pierdesk") && text.contains("0 of 16"), "{text}");
        let widest = text.lines().map(|line| line.chars().count()).max().unwrap();
        if columns == "40" {
            assert!(widest <= 40, "{widest} columns:\n{text}");
        }
    }
}

#[test]
fn a_load_test_ends_early_at_the_first_interrupt_and_at_once_at_the_second() {
    let service = Service::demo(&["--width", "1"]);
    let start = |users: &str| {
        service
            .command()
            .args([
                "load",
                "run",
                "--users",
                users,
                "--duration",
                "10m",
                "--forget",
                "--json",
            ])
            .args([
                "--output",
                "1900",
                "--force-length",
                "--warm-up",
                "0",
                "--url",
                &service.url,
            ])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    };
    let interrupt = |child: &std::process::Child| {
        let sent = std::process::Command::new("kill")
            .args(["-INT", &child.id().to_string()])
            .status();
        assert!(sent.unwrap().success());
    };
    let mut child = start("40");
    let mut said = BufReader::new(child.stderr.take().unwrap());
    let mut line = String::new();
    // It tells how it gets on once requests are under way.
    while !line.contains("ended") {
        line.clear();
        assert!(said.read_line(&mut line).unwrap() > 0);
    }
    interrupt(&child);
    while !line.contains("stopping") {
        line.clear();
        assert!(said.read_line(&mut line).unwrap() > 0);
    }
    interrupt(&child);
    assert_eq!(child.wait().unwrap().code(), Some(1));
}
