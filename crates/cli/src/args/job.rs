//! `vastrelay job`.

use super::connection::Connection;
use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum JobCommand {
    /// List long work of the service, newest first
    #[command(after_help = "\
Examples:
  vastrelay job list
  vastrelay job list --kind build --json")]
    List(JobListOptions),
    /// Show a job and what it said
    #[command(after_help = "\
Examples:
  vastrelay job show 3")]
    Show(JobOptions),
    /// Follow a job until it is over
    #[command(after_help = "\
Examples:
  vastrelay job follow 3

Exit codes: 0 it is done, 1 it has failed, or was cancelled or interrupted.")]
    Follow(JobOptions),
    /// End a job early
    #[command(after_help = "\
Examples:
  vastrelay job cancel 3

A load test keeps what was measured so far; of a build nothing is left.")]
    Cancel(JobOptions),
}

#[derive(Args)]
pub struct JobListOptions {
    /// Maximum jobs to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Only jobs of this kind
    #[arg(long, value_name = "KIND", value_parser = ["build", "load"])]
    pub kind: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct JobOptions {
    /// The job's number
    #[arg(value_name = "NUMBER")]
    pub number: i64,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
