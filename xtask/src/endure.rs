//! Long runs: what the tests do for seconds, for as long as somebody wants.

use crate::steps::{Outcome, run};
use std::process::Command;

const HELP: &str = "\
cargo xtask endure kills [--seed N] [--count N]       kill workers at random under load (1,000 times); compare every answer
cargo xtask endure services [--seed N] [--count N]    kill the service at random (50 times); the next one takes its workers over
cargo xtask endure builds [--count N]                 kill the service while it builds (50 times); nothing half made is used
cargo xtask endure changes [--seed N] [--seconds N]   change, stop, start and park endpoints under load (60 s)
cargo xtask endure fleet [--seed N] [--seconds N]     random histories of endpoints with real workers, whose services are killed (600 s)
cargo xtask endure control [--seed N] [--count N]     random histories of the decider in a simulated world (100,000)
cargo xtask endure histories [--seed N] [--count N]   random histories of scheduler and engine core, in rounds of 12,000 (20 rounds)
cargo xtask endure messages [--seed N] [--seconds N]  broken messages between service and workers (600 s for each side)
cargo xtask endure soak [--seed N] [--seconds N]      the same load for long (600 s); memory must not grow";

/// The request for a long run.
struct Request {
    seed: u64,
    count: u64,
    seconds: u64,
}

/// Runs one of them.
pub fn endure(words: &[&str]) -> Outcome {
    let Some((name, options)) = words.split_first() else {
        return Err(HELP.into());
    };
    let usual = Request {
        seed: 1,
        count: match *name {
            "kills" => 1_000,
            "services" | "builds" => 50,
            "control" => 100_000,
            _ => 20,
        },
        seconds: if *name == "changes" { 60 } else { 600 },
    };
    let request = read(options, usual)?;
    println!("seed {}", request.seed);
    match *name {
        "kills" => end_to_end("endure::workers_are_killed", &request),
        "services" => end_to_end("endure::services_are_killed", &request),
        "builds" => end_to_end("endure::builds_are_killed", &request),
        "changes" => end_to_end("endure::endpoints_change", &request),
        "fleet" => end_to_end("fleet::histories", &request),
        "soak" => end_to_end("endure::memory_does_not_grow", &request),
        "control" => run(request.pass(&mut test("vastrelay-fleet", &["--test", "control"]))),
        "histories" => histories(&request),
        "messages" => run(request.pass(&mut test("vastrelay-serving", &["--test", "hostile_messages"]))),
        _ => Err(HELP.into()),
    }
}

fn read(options: &[&str], mut request: Request) -> Result<Request, String> {
    let mut options = options.iter();
    while let Some(option) = options.next() {
        let value = options.next().and_then(|value| value.parse().ok());
        let value: u64 = value.ok_or_else(|| format!("{option} needs a number\n{HELP}"))?;
        match *option {
            "--seed" => request.seed = value,
            "--count" => request.count = value,
            "--seconds" => request.seconds = value,
            _ => return Err(HELP.into()),
        }
    }
    Ok(request)
}

impl Request {
    /// Tells tests what is wanted.
    fn pass<'c>(&self, command: &'c mut Command) -> &'c mut Command {
        command
            .env("ENDURE_SEED", self.seed.to_string())
            .env("ENDURE_COUNT", self.count.to_string())
            .env("ENDURE_SECONDS", self.seconds.to_string())
    }
}

fn test(package: &str, words: &[&str]) -> Command {
    let mut command = Command::new("cargo");
    command.args(["test", "--release", "-p", package]).args(words);
    command
}

fn end_to_end(name: &str, request: &Request) -> Outcome {
    let words = ["--test", "e2e", name, "--", "--nocapture"];
    run(request.pass(&mut test("vastrelay", &words)))
}

fn histories(request: &Request) -> Outcome {
    for round in 0..request.count {
        let mut command = test("vastrelay-engine", &["--test", "core", "--test", "scheduler"]);
        run(command.env("PROPTEST_RNG_SEED", (request.seed + round).to_string()))?;
    }
    Ok(())
}
