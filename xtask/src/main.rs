//! `cargo xtask …`: everything a developer runs. It needs nothing but Rust, Node and, for the tests, Debian's packages.

mod circles;
mod endure;
mod names;
mod rooms;
mod steps;

use std::process::ExitCode;
use steps::Outcome;

const HELP: &str = "\
cargo xtask demo          build console and service, put `vastrelay` on the PATH, start it with demo data
cargo xtask test          install what the tests need (Chromium included) and run all of them
cargo xtask bench         measure kernels, engine and service: some fifty minutes
cargo xtask bench --quick measure the engine with a small model, in two minutes; --help lists more
cargo xtask endure NAME   run for long: kills, services, builds, changes, fleet, control, histories, messages or soak; with --seed N the same again
cargo xtask verify        grade the demo model's answers and print the scores
cargo xtask verify --weights PATH [--text FILE] [--calibrate FILE]
                          print what each precision of a model costs: loss, and how often the same token is likeliest
cargo xtask console       build the console only
cargo xtask types         make the console's types anew from the description of the interface
cargo xtask lint          rustfmt, clippy, ESLint, Prettier, types
";

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let outcome: Outcome = match words.as_slice() {
        ["demo", rest @ ..] => steps::demo(rest),
        ["test", rest @ ..] => steps::test(rest),
        ["bench", words @ ..] => steps::bench(words),
        ["endure", words @ ..] => endure::endure(words),
        ["verify"] => steps::verify(),
        ["verify", words @ ..] => steps::verify_weights(words),
        ["console"] => steps::console(),
        ["types"] => steps::types(),
        ["lint"] => steps::lint(),
        _ => {
            eprint!("{HELP}");
            return ExitCode::from(2);
        }
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("xtask: {error}");
            ExitCode::FAILURE
        }
    }
}
