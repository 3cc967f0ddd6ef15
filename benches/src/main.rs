//! `cargo xtask bench`: the speed of kernels and engine, as ratios taken in one run on one machine.
//!
//! The machine's own limits and all subjects are measured in turns; medians are compared, and how far they can be believed is
//! printed beside them.

mod alternate;
mod attention;
mod cells;
mod charts;
mod jax;
mod kernels;
mod memory;
mod model;
mod report;
mod statistics;
mod streams;
mod work;

use anyhow::{Context, Result, bail};
use clap::Parser;
use report::Report;
use std::path::PathBuf;
use vastrelay_kernels::{Isa, ThreadPool};
use work::Part;

/// The options of a benchmark run.
#[derive(Parser)]
#[command(name = "cargo xtask bench")]
pub struct Options {
    /// Measure the small model only, in less than two minutes
    #[arg(long)]
    quick: bool,
    /// Measure this model besides, a GGUF file or a folder
    #[arg(long, value_name = "PATH")]
    weights: Option<PathBuf>,
    /// Measure models of these shapes only: 135M, 0.5B or 1.1B
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    shapes: Vec<String>,
    /// Measure these precisions only: f32, bf16, int8, int4 or GGUF
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    precisions: Vec<String>,
    /// Measure only what has this in its name, such as `decode 8`
    #[arg(long, value_name = "TEXT")]
    work: Option<String>,
    /// Measure nothing: print, and draw, what is in the file of an earlier run
    #[arg(long, value_name = "FILE.json", conflicts_with_all = ["quick", "weights", "shapes", "precisions", "work", "out", "kernel", "cores"])]
    from: Option<PathBuf>,
    /// Compare with the file of an earlier run
    #[arg(long, value_name = "FILE.json")]
    compare: Option<PathBuf>,
    /// Where the figures go
    #[arg(long, value_name = "FILE.json", default_value = "target/bench.json")]
    out: PathBuf,
    /// Draw charts of the model's decode steps into this folder
    #[arg(long, value_name = "FOLDER")]
    charts: Option<PathBuf>,
    /// Cores in use [default: all]
    #[arg(long, value_name = "N")]
    cores: Option<usize>,
    /// Instruction set of the kernels [default: the best of this machine]
    #[arg(long, value_name = "NAME")]
    kernel: Option<String>,
    /// A Python with JAX, for the same model in it; its rows are left out without
    #[arg(long, value_name = "PATH", env = "VASTRELAY_JAX_PYTHON")]
    python: Option<PathBuf>,
    /// Go on measuring a cell until it has this many alternations
    #[arg(long, value_name = "N", default_value_t = 7)]
    rounds: usize,
}

/// What all cells run on.
#[derive(Clone, Copy)]
pub struct Machine {
    /// The kernels' instructions.
    pub isa: Isa,
    /// Cores in use.
    pub cores: usize,
    /// Alternations.
    pub rounds: usize,
}

fn main() -> Result<()> {
    let options = Options::parse();
    let machine = Machine {
        isa: match &options.kernel {
            Some(name) => Isa::of(name).map_err(anyhow::Error::msg)?,
            None => Isa::detect(),
        },
        cores: options
            .cores
            .unwrap_or(std::thread::available_parallelism().map_or(1, usize::from)),
        rounds: options.rounds,
    };
    let before = match &options.compare {
        Some(path) => Some(Report::read(path).with_context(|| format!("cannot compare with {}", path.display()))?),
        None => None,
    };
    let report = match &options.from {
        Some(path) => Report::read(path).with_context(|| format!("cannot read {}", path.display()))?,
        None => measure(machine, &options)?,
    };
    report.print();
    if options.from.is_none() {
        report.write(&options.out)?;
        println!("\nfigures: {}", options.out.display());
    }
    if let Some(folder) = &options.charts {
        charts::draw(&report, folder)?;
        println!("charts: {}", folder.display());
    }
    if let Some(before) = before {
        report.print_changes(&before);
    }
    if report.has_failed() {
        bail!("a precision that must not be slower than bf16 is");
    }
    Ok(())
}

/// Measures all that is wanted.
fn measure(machine: Machine, options: &Options) -> Result<Report> {
    let shapes = model::shapes(&options.shapes, options.quick)?;
    let smallest = shapes.iter().find(|shape| shape.name == model::SMALLEST).copied();
    let mut report = Report::new(machine);
    let threads = ThreadPool::new(machine.cores);
    // A choice of work is one of the engine's.
    if !options.quick && options.work.is_none() {
        kernels::measure(machine, &threads, &mut report)?;
        attention::measure(machine, &threads, &mut report);
    }
    drop(threads);
    if let Some(path) = &options.weights {
        let subjects = model::of_file(path, machine, options, &mut report)?;
        cells::measure("weights", Part::Aims, machine, subjects, options, &mut report)?;
        if !options.quick {
            streams::measure_prompt(path, machine, options, &mut report)?;
        }
    }
    if !options.quick {
        streams::measure_planning(machine, options, &mut report)?;
    }
    for shape in shapes {
        let subjects = model::of_shape(shape, machine, options, &mut report)?;
        cells::measure(shape.name, Part::Aims, machine, subjects, options, &mut report)?;
    }
    if options.quick {
        return Ok(report);
    }
    // Of the smallest model: for the larger ones there is no time.
    let (name, subjects) = match (&options.weights, smallest) {
        (Some(path), _) => ("weights", model::of_file(path, machine, options, &mut report)?),
        (None, Some(shape)) => (shape.name, model::of_shape(shape, machine, options, &mut report)?),
        (None, None) => return Ok(report),
    };
    cells::measure(name, Part::More, machine, subjects, options, &mut report)?;
    Ok(report)
}
