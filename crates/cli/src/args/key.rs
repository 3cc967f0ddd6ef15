//! `vastrelay key`.

use super::connection::Connection;
use super::endpoint::endpoint_name;
use super::time::duration;
use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Create a key; it is shown only once
    #[command(after_help = "\
Examples:
  vastrelay key create --name \"ferry desk\"
  vastrelay key create --name desk --endpoint pierdesk harbour    knows of no other endpoint
  vastrelay key create --name nightly --expires 30d --rate 60 --at-once 4
  vastrelay key create --name desk --weight 4    gets four times the lanes of other keys while calls wait
  vastrelay key create --name ops --scope manage --data /var/lib/vastrelay     works on the database, without a service")]
    Create(KeyCreateOptions),
    /// List keys, without their secrets
    #[command(after_help = "\
Examples:
  vastrelay key list
  vastrelay key list --json")]
    List(KeyListOptions),
    /// Revoke a key, immediately and permanently
    #[command(after_help = "\
Examples:
  vastrelay key revoke 1f0c22ab")]
    Revoke(KeyRevokeOptions),
}

/// Where keys are stored: in a running service, or in a data folder.
#[derive(Args)]
pub struct KeyPlace {
    /// Data folder to work on directly, without calling a service
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct KeyCreateOptions {
    /// Name of the key
    #[arg(long, value_name = "NAME")]
    pub name: String,
    /// What the key allows
    #[arg(long, value_enum, default_value_t = Scope::Use)]
    pub scope: Scope,
    /// Time until it expires, such as 30d [default: never]
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub expires: Option<Duration>,
    /// Maximum calls per minute [default: no limit]
    #[arg(long, value_name = "N")]
    pub rate: Option<u32>,
    /// Maximum concurrent calls [default: no limit]
    #[arg(long, value_name = "N")]
    pub at_once: Option<u32>,
    /// Share of the lanes compared to other keys while calls of several keys wait: 1 to 100 [default: 1]
    #[arg(long, value_name = "N")]
    pub weight: Option<u32>,
    /// Endpoints that it may call; to it, there are no others [default: all]
    #[arg(long = "endpoint", value_name = "NAME", num_args = 1.., value_parser = endpoint_name)]
    pub endpoints: Vec<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub place: KeyPlace,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Scope {
    /// Call models and read metrics
    Use,
    /// Also manage the service
    Manage,
}

#[derive(Args)]
pub struct KeyListOptions {
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub place: KeyPlace,
}

#[derive(Args)]
pub struct KeyRevokeOptions {
    /// Key id: the part between the hyphens of the key
    #[arg(value_name = "ID")]
    pub id: String,
    #[command(flatten)]
    pub place: KeyPlace,
}
