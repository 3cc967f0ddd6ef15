//! `vastrelay request`.

use super::connection::Connection;
use super::time::duration;
use clap::{Args, Subcommand};
use std::time::Duration;

#[derive(Subcommand)]
pub enum RequestCommand {
    /// List recent requests, newest first
    #[command(after_help = "\
Examples:
  vastrelay request list
  vastrelay request list --failed --within 1h
  vastrelay request list --slower 2s --endpoint pierdesk
  vastrelay request list --most 100 --json")]
    List(RequestListOptions),
    /// Show one request: timeline, timings and parameters
    #[command(after_help = "\
Examples:
  vastrelay request show 3f9a
  vastrelay request show last
  vastrelay request show 3f9a --json")]
    Show(RequestShowOptions),
}

#[derive(Args)]
pub struct RequestListOptions {
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
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub within: Option<Duration>,
    /// Only requests that took longer than this, such as 500ms
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub slower: Option<Duration>,
    /// Only requests whose first token took longer than this
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub slower_start: Option<Duration>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct RequestShowOptions {
    /// Request id or its beginning; `last` for the newest
    #[arg(value_name = "ID")]
    pub id: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
