//! `vastrelay device`.

use super::connection::Connection;
use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum DeviceCommand {
    /// Show what is on each device of the service, by owner
    List(DeviceListOptions),
    /// Show the profile of a kind of device
    Show(DeviceShowOptions),
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
  vastrelay device show ./my-device.toml --json

No service is needed.")]
pub struct DeviceShowOptions {
    /// sim-24g, sim-48g, sim-80g or a TOML file
    #[arg(value_name = "NAME|FILE")]
    pub device: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}
