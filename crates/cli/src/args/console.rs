//! `vastrelay console`.

use super::connection::Connection;
use clap::Args;

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay console                                     the console of the service on this machine
  vastrelay console --json                              the link as JSON
  vastrelay console --url https://relay.example --key vr-…   of a service elsewhere, with a key of scope manage

The link works once, within two minutes. It begins a session that ends with *Sign out*, or after 12 hours.")]
pub struct ConsoleOptions {
    #[command(flatten)]
    pub connection: Connection,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}
