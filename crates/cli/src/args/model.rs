//! `vastrelay model`.

use super::connection::Connection;
use super::precision::PrecisionOptions;
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Subcommand)]
pub enum ModelCommand {
    /// Show what a model folder or file contains and whether it would run here
    Inspect(ModelInspectOptions),
    /// Convert a checkpoint ahead of time and measure the quality loss
    Build(ModelBuildOptions),
    /// List what a running service has converted, with sizes and users
    #[command(after_help = "\
Examples:
  vastrelay model builds
  vastrelay model builds --json

A service converts a model once for each precision that an endpoint's spec asks for, and keeps
the result in its data folder. It is deleted with the last endpoint that uses it.")]
    Builds(ModelBuildsOptions),
}

#[derive(Args)]
pub struct ModelBuildsOptions {
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model build ./pierdesk-1 --weights int8 --out ./pierdesk-1-int8
  vastrelay model build ./model.gguf --weights int4 --group 64 --calibrate notes.txt --out ./model-int4
  vastrelay start --model desk=./pierdesk-1-int8

A build is converted once and memory-mapped at start. Its quality is measured on a text before and after.")]
pub struct ModelBuildOptions {
    /// A folder of safetensors, or a GGUF file
    pub path: PathBuf,
    /// Folder to create
    #[arg(long, value_name = "DIR")]
    pub out: PathBuf,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Text for calibrated rounding (int8 and int4)
    #[arg(long, value_name = "FILE")]
    pub calibrate: Option<PathBuf>,
    /// Text to measure the loss on [default: a built-in sample]
    #[arg(long, value_name = "FILE")]
    pub text: Option<PathBuf>,
    /// Cores to use [default: all]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model inspect ./pierdesk-1
  vastrelay model inspect ./model.gguf --json
  vastrelay model inspect ./model.gguf --weights int4 --group 64")]
pub struct ModelInspectOptions {
    /// A folder of safetensors, or a GGUF file
    pub path: PathBuf,
    /// Maximum sequences in a batch, for the memory plan [default: 16]
    #[arg(long, value_name = "N")]
    pub width: Option<usize>,
    /// Maximum tokens in a step [default: 320]
    #[arg(long, value_name = "TOKENS")]
    pub step_budget: Option<usize>,
    /// Maximum tokens of a sequence [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Fraction of this machine's memory that it may use [default: 0.4]
    #[arg(long, value_name = "FRACTION")]
    pub memory_share: Option<f64>,
    /// Shards to split it into
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}
