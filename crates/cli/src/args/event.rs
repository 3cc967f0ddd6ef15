//! `vastrelay event`.

use super::connection::Connection;
use super::time::duration;
use clap::{Args, Subcommand};
use std::time::Duration;
use vastrelay_wire::manage::EventKind;

#[derive(Subcommand)]
pub enum EventCommand {
    /// List what happened to endpoints, newest first
    #[command(after_help = "\
Examples:
  vastrelay event list
  vastrelay event list --endpoint pierdesk --within 1h
  vastrelay event list --what worker_gone --json
  vastrelay event list --follow")]
    List(EventListOptions),
}

#[derive(Args)]
pub struct EventListOptions {
    /// Maximum events to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Only events of this endpoint
    #[arg(long, value_name = "NAME")]
    pub endpoint: Option<String>,
    /// Only events of this kind
    #[arg(long, value_name = "KIND", value_parser = EventKind::ALL.map(EventKind::name))]
    pub what: Option<String>,
    /// Only events of the last period, such as 15m
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub within: Option<Duration>,
    /// Follow new events, oldest first, until Ctrl-C
    #[arg(long, short)]
    pub follow: bool,
    /// Print JSON; with --follow, one object in a line
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
