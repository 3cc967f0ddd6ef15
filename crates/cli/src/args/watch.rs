//! `vastrelay watch`.

use super::connection::Connection;
use clap::Args;

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay watch
  vastrelay watch --url http://relay.example:7411

Press q, Esc or Ctrl-C to quit.")]
pub struct WatchOptions {
    #[command(flatten)]
    pub connection: Connection,
}
