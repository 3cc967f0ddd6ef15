//! `vastrelay model build`: converts a checkpoint once, without a service.

use crate::args::model::ModelBuildOptions;
use crate::failure::Failure;
use crate::machine::device_memory;
use crate::output::{json, line, precision_name};
use serde::Serialize;
use std::io::{IsTerminal, Write, stderr};
use std::path::Path;
use std::thread::available_parallelism;
use std::time::{Duration, Instant};
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_serving::models::build::{BuildPhase, BuildRequest, make};
use vastrelay_serving::{KvPrecision, Precision};

/// A finished build and its cost.
#[derive(Serialize)]
struct Report {
    out: String,
    weights: &'static str,
    group: Option<usize>,
    kv: &'static str,
    calibrated_on: Option<String>,
    seconds: f64,
    /// The most memory that the program had at once, where the system tells.
    peak_memory_bytes: Option<usize>,
    source_bytes: usize,
    bytes: usize,
    tokens: usize,
    loss_before: f64,
    loss_after: f64,
    same_top_token: f64,
}

/// Makes a build.
pub fn run(options: &ModelBuildOptions) -> Result<(), Failure> {
    let weights = options.precision.weights()?;
    let kv = options.precision.kv.map_or_else(KvPrecision::default, Into::into);
    if options.calibrate.is_some() && !matches!(weights, Precision::Groups { .. }) {
        return Err(Failure::usage("--calibrate is for --weights int8 and --weights int4"));
    }
    let read = |file: &Path| {
        std::fs::read_to_string(file).map_err(|error| {
            Failure::usage(format!(
                "{} cannot be read: {}",
                file.display(),
                vastrelay_files::reason(&error)
            ))
        })
    };
    let named = |file: &Path| {
        let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
        Ok::<(String, String), Failure>((name, read(file)?))
    };
    let request = BuildRequest {
        source: options.path.clone(),
        out: options.out.clone(),
        weights,
        kv,
        calibrate: options.calibrate.as_deref().map(named).transpose()?,
        text: options.text.as_deref().map(read).transpose()?,
        cores: options.cores.unwrap_or(available_parallelism().map_or(1, usize::from)),
        memory: device_memory() / 2,
    };
    let started = Instant::now();
    let mut progress = BuildProgress::new();
    let report = make(&request, |phase| progress.print(phase)).map_err(Failure::failed)?;
    progress.end();
    let report = Report {
        out: options.out.display().to_string(),
        weights: weights.word(),
        group: weights.group(),
        kv: kv.name(),
        calibrated_on: request.calibrate.map(|(name, _)| name),
        seconds: started.elapsed().as_secs_f64(),
        peak_memory_bytes: peak_memory(),
        source_bytes: report.source_bytes,
        bytes: report.bytes,
        tokens: report.tokens,
        loss_before: report.before,
        loss_after: report.after,
        same_top_token: report.agreement,
    };
    if options.json {
        return json(&report);
    }
    print(&report);
    Ok(())
}

fn print(report: &Report) {
    let row = |name: &str, value: String| line(format!("  {name:<12}{value}"));
    line(format!("built {}", report.out));
    let rounding = match &report.calibrated_on {
        Some(text) => format!(", calibrated on {text}"),
        None => String::new(),
    };
    let weights = precision_name(report.weights, report.group);
    row("weights", format!("{weights}{rounding}"));
    row("KV", report.kv.to_owned());
    let share = report.bytes as f64 / report.source_bytes as f64;
    row(
        "size",
        format!(
            "{}, {:.0} % of the source's {} in memory",
            bytes(report.bytes),
            share * 100.0,
            bytes(report.source_bytes)
        ),
    );
    let change = report.loss_after / report.loss_before - 1.0;
    row(
        "loss",
        format!(
            "{:.4} → {:.4} nats a token ({:+.2} %), over {} tokens",
            report.loss_before,
            report.loss_after,
            change * 100.0,
            grouped(report.tokens)
        ),
    );
    row(
        "same token",
        format!("the same in {:.1} % of places", report.same_top_token * 100.0),
    );
    let peak = report
        .peak_memory_bytes
        .map_or(String::new(), |peak| format!(", {} of memory at most", bytes(peak)));
    row("took", format!("{:.1} s{peak}", report.seconds));
    line(format!("start it with: vastrelay start --model NAME={}", report.out));
}

/// Says which phase is under way: on one line of a terminal, else a line for each phase.
struct BuildProgress {
    phase: &'static str,
    since: Instant,
    terminal: bool,
    told: Option<Instant>,
}

impl BuildProgress {
    fn new() -> BuildProgress {
        BuildProgress {
            phase: "",
            since: Instant::now(),
            terminal: stderr().is_terminal(),
            told: None,
        }
    }

    fn print(&mut self, phase: BuildPhase) {
        let (name, done) = match phase {
            BuildPhase::Before(done, all) => ("scoring the source", Some((done, all))),
            BuildPhase::Reading(done, all) => ("reading the calibrating text", Some((done, all))),
            BuildPhase::Rounding(done, all) => ("rounding matrices", Some((done, all))),
            BuildPhase::Writing => ("packing and writing", None),
            BuildPhase::After(done, all) => ("scoring the build", Some((done, all))),
        };
        let new = name != self.phase;
        if new {
            self.end();
            (self.phase, self.since, self.told) = (name, Instant::now(), None);
        }
        let recent = self
            .told
            .is_some_and(|told| told.elapsed() < Duration::from_millis(200));
        if recent || (!new && !self.terminal) {
            return;
        }
        self.told = Some(Instant::now());
        let share = done.map(|(done, all)| (done as f64 / all.max(1) as f64).clamp(0.0, 1.0));
        let left = share.filter(|share| *share > 0.05).map_or(String::new(), |share| {
            let left = self.since.elapsed().as_secs_f64() * (1.0 - share) / share;
            format!(", about {left:.0} s left")
        });
        let figures = done.map_or(String::new(), |(done, all)| {
            format!(" {} of {}{left}", grouped(done), grouped(all))
        });
        // To standard error, so that what is printed at the end can be read by programs; nobody may be listening.
        let _ = match self.terminal {
            true => write!(stderr(), "\r\x1b[K{name}{figures}…"),
            false => writeln!(stderr(), "{name}…"),
        };
        let _ = stderr().flush();
    }

    fn end(&mut self) {
        if self.terminal && !self.phase.is_empty() {
            let took = self.since.elapsed().as_secs_f64();
            let _ = writeln!(stderr(), "\r\x1b[K{}: {took:.1} s", self.phase);
        }
    }
}

/// Returns the most memory that this program had at once, where the system tells.
fn peak_memory() -> Option<usize> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find(|line| line.starts_with("VmHWM:"))?;
    let kilobytes: usize = line.split_whitespace().nth(1)?.parse().ok()?;
    Some(kilobytes * 1024)
}
