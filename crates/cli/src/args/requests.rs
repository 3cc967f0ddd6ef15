//! `vastrelay requests`.

use super::connection::Connection;
use clap::{Args, Subcommand};
use std::time::Duration;

#[derive(Subcommand)]
pub enum RequestsCommand {
    /// List recent requests, newest first
    #[command(after_help = "\
Examples:
  vastrelay requests list
  vastrelay requests list --failed --within 1h
  vastrelay requests list --slower 2s --endpoint pierdesk
  vastrelay requests list --most 100 --json")]
    List(RequestsListOptions),
    /// Show one request: timeline, timings and parameters
    #[command(after_help = "\
Examples:
  vastrelay requests show 3f9a
  vastrelay requests show last
  vastrelay requests show 3f9a --json")]
    Show(RequestsShowOptions),
}

#[derive(Args)]
pub struct RequestsListOptions {
    /// Maximum requests to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Only requests to this endpoint
    #[arg(long, value_name = "NAME")]
    pub endpoint: Option<String>,
    /// Only requests with this outcome, such as length or queue_full
    #[arg(long, value_name = "NAME")]
    pub outcome: Option<String>,
    /// Only requests made with the key of this name
    #[arg(long, value_name = "NAME")]
    pub caller: Option<String>,
    /// Only requests that failed or were refused
    #[arg(long)]
    pub failed: bool,
    /// Only requests of the last period, such as 15m
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub within: Option<Duration>,
    /// Only requests that took longer than this, such as 500ms
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub slower: Option<Duration>,
    /// Only requests whose first token took longer than this
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub slower_start: Option<Duration>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct RequestsShowOptions {
    /// Request id or its beginning; `last` for the newest
    #[arg(value_name = "ID")]
    pub id: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
