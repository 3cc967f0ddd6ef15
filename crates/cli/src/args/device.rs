//! `vastrelay device`.

use super::connection::Connection;
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Subcommand)]
pub enum DeviceCommand {
    /// Show what is on each device of the service, by owner
    List(DeviceListOptions),
    /// Show the profile of a kind of device
    Show(DeviceShowOptions),
    /// Measure how fast this machine's processor is, for predictions: about a minute
    Measure(DeviceMeasureOptions),
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay device list
  vastrelay device list --json")]
pub struct DeviceListOptions {
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay device show sim-48g
  vastrelay device show cpu                      as it was measured
  vastrelay device show ./my-device.toml --json

No service is needed.")]
pub struct DeviceShowOptions {
    /// cpu, sim-24g, sim-48g, sim-80g or a TOML file
    #[arg(value_name = "NAME|FILE")]
    pub device: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay device measure
  vastrelay device measure --cores 4 --out ./four-cores.toml

Times real steps of models with generated weights. `vastrelay fit --device cpu` uses what is kept, and measures if nothing is.
No service is needed, and none should be busy.")]
pub struct DeviceMeasureOptions {
    /// Cores of a replica [default: all]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Where the profile goes [default: cpu.toml in the platform's data directory]
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Print the profile as JSON
    #[arg(long)]
    pub json: bool,
}
