//! `vastrelay status`.

use super::connection::Connection;
use clap::Args;

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay status
  vastrelay status --json")]
pub struct StatusOptions {
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
