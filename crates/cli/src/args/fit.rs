//! `vastrelay fit`.

use super::precision::PrecisionOptions;
use clap::Args;
use std::path::PathBuf;
use vastrelay_planner::Typical;

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay fit ./my-70b/config.json
  vastrelay fit ./my-70b --device sim-48g --concurrency 16 --typical 600+200
  vastrelay fit ./my-70b --device sim-48g --weights int4 --kv int8 --explain
  vastrelay fit ./my-70b --table --json
  vastrelay fit ./my-1b --device cpu --concurrency 4

No service and no device is needed. Times and prices are predicted from the device's profile; that of this machine's cpu is measured once.
Exits with 1 if the model does not fit.")]
pub struct FitOptions {
    /// A folder, a GGUF file, or a config.json by itself
    pub model: PathBuf,
    /// Device profile: cpu, sim-24g, sim-48g, sim-80g or a TOML file [default: all simulated ones]
    #[arg(long, value_name = "NAME|FILE")]
    pub device: Option<String>,
    /// Most devices to use [default: as many as the profile has]
    #[arg(long, value_name = "N")]
    pub count: Option<usize>,
    /// Exactly so many devices
    #[arg(long, value_name = "N", conflicts_with = "count")]
    pub split: Option<usize>,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Maximum tokens of a sequence [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Sequences at full context that have to fit at once [default: one]
    #[arg(long, value_name = "N")]
    pub concurrency: Option<usize>,
    /// A typical sequence: tokens of its prompt and of its answer [default: 1536+512, or the context if that is smaller]
    #[arg(long, value_name = "PROMPT+ANSWER")]
    pub typical: Option<Typical>,
    /// Maximum sequences in a batch [default: 64 on an accelerator, 16 on a cpu]
    #[arg(long, value_name = "N")]
    pub width: Option<usize>,
    /// Maximum tokens in a step [default: 512 on an accelerator, 320 on a cpu]
    #[arg(long, value_name = "TOKENS")]
    pub step_budget: Option<usize>,
    /// Fraction of each device's memory that may be used [default: all of an accelerator's; of a cpu's what its profile does not reserve, or 0.4]
    #[arg(long, value_name = "FRACTION")]
    pub memory_share: Option<f64>,
    /// Show each formula with its numbers
    #[arg(long)]
    pub explain: bool,
    /// Show all precisions, devices and numbers of devices
    #[arg(long, conflicts_with = "explain")]
    pub table: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}
