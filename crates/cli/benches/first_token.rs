//! How long does a start take, from the command to the first token? A build of 135 million parameters, in the cache of files, against the
//! least that has to be done for it: reading its file once and parsing its tokenizer.
//!
//! Prints the times and their ratio (aim: at most 3). `cargo bench -p vastrelay --bench first_token`.

use serde_json::json;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use vastrelay_specimen::Stored;
use vastrelay_text::Tokenizer;

const TURNS: usize = 7;

fn main() {
    let folder = tempfile::tempdir().expect("a folder");
    let (source, build) = (folder.path().join("source"), folder.path().join("build"));
    std::fs::create_dir(&source).expect("a folder");
    let config = json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": 49_152, "hidden_size": 576, "intermediate_size": 1_536,
        "num_hidden_layers": 30, "num_attention_heads": 9, "num_key_value_heads": 3,
        "rms_norm_eps": 1e-5, "max_position_embeddings": 4_096, "tie_word_embeddings": true
    });
    vastrelay_specimen::write(&source, &config, Stored::Bf16).expect("it can be written");
    for weights in ["bf16", "int8", "int4"] {
        let built = vastrelay()
            .args(["model", "build", "--weights", weights, "--out"])
            .args([&build, &source])
            .output()
            .expect("it runs");
        assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
        let pairs: Vec<(f64, f64)> = (0..=TURNS).map(|_| (least(&build), first_token(&build))).collect();
        // The first turn warms the cache.
        let ratio = middle(pairs[1..].iter().map(|(least, first)| first / least));
        let (least, first) = (
            middle(pairs[1..].iter().map(|pair| pair.0)),
            middle(pairs[1..].iter().map(|pair| pair.1)),
        );
        println!(
            "{weights:>5}: first token {:.0} ms after the command, the least for it {:.0} ms; ratio {ratio:.2}",
            first * 1e3,
            least * 1e3
        );
        std::fs::remove_dir_all(&build).expect("it is there");
    }
}

fn vastrelay() -> Command {
    Command::new(env!("CARGO_BIN_EXE_vastrelay"))
}

/// Reads the weights once and parses the tokenizer; returns the seconds.
fn least(build: &Path) -> f64 {
    let begun = Instant::now();
    let weights = std::fs::read(build.join("build.safetensors")).expect("it can be read");
    let tokenizer = Tokenizer::open(build).expect("it can be parsed");
    std::hint::black_box((weights, tokenizer));
    begun.elapsed().as_secs_f64()
}

/// Starts a service and asks it at once; returns the seconds to the first token.
fn first_token(build: &Path) -> f64 {
    let data = tempfile::tempdir().expect("a folder");
    let port = TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr());
    let address = port.expect("a free port").to_string();
    let begun = Instant::now();
    let mut service = vastrelay()
        .args([
            "start",
            "--listen",
            &address,
            "--workers-stay",
            "0s",
            "--context",
            "512",
            "--data",
        ])
        .arg(data.path())
        .arg("--model")
        .arg(format!("open={}", build.display()))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    while !ask(&address) {
        assert!(begun.elapsed() < Duration::from_secs(60), "nobody answers");
        std::thread::sleep(Duration::from_millis(1));
    }
    let seconds = begun.elapsed().as_secs_f64();
    let _ = service.kill();
    let _ = service.wait();
    seconds
}

/// Asks for a token; returns whether it came.
fn ask(address: &str) -> bool {
    let Ok(mut stream) = TcpStream::connect(address) else {
        return false;
    };
    let body = json!({"model": "open", "prompt": [300, 301, 302, 303], "max_tokens": 1, "stream": true}).to_string();
    let request = format!(
        "POST /v1/completions HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    );
    let mut answer = String::new();
    stream.write_all(request.as_bytes()).is_ok()
        && stream.read_to_string(&mut answer).is_ok()
        && answer.starts_with("HTTP/1.1 200")
        && answer.contains("data: {")
}

/// Returns the value in the middle.
fn middle(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
