//! `vastrelay endpoint`.

use super::connection::Connection;
use super::time::duration;
use clap::{Args, Subcommand};
use std::path::PathBuf;
use std::time::Duration;
use vastrelay_weights::place::no_path;

#[derive(Subcommand)]
pub enum EndpointCommand {
    /// Serve what a spec describes, or a model; change what is served
    Deploy(EndpointDeployOptions),
    /// Write a spec to begin with, each value with its reason
    New(EndpointNewOptions),
    /// Say how a spec or a model would be served, without serving it
    Check(EndpointCheckOptions),
    /// Print the JSON Schema of specs, with which editors complete them
    #[command(after_help = "\
Examples:
  vastrelay endpoint schema > endpoint.schema.json

It needs no running service; a service has it at /spec-schema.json.")]
    Schema,
    /// List endpoints, served or not
    List(EndpointListOptions),
    /// Show the spec, the releases and the state of an endpoint
    Show(EndpointShowOptions),
    /// Show the output of an endpoint's workers and builds
    #[command(alias = "logs")]
    Log(EndpointLogOptions),
    /// Wait until an endpoint takes requests
    Wait(EndpointWaitOptions),
    /// Stop serving an endpoint and keep what it is to be
    Stop(EndpointStopOptions),
    /// Give an endpoint's memory back until somebody calls it
    Park(EndpointParkOptions),
    /// Serve an endpoint again that was stopped or parked
    Start(EndpointStartOptions),
    /// Give an endpoint's replicas new workers without losing a request
    Renew(EndpointRenewOptions),
    /// Stop serving an endpoint and forget it
    Remove(EndpointRemoveOptions),
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint deploy demo/lighthouse.toml
  vastrelay endpoint deploy desk=./pierdesk-1
  vastrelay endpoint deploy --demo
  vastrelay endpoint deploy desk --release 2

A TOML file is a spec; its endpoint has the file's name. The service reads the model, so it must
be on the service's machine. Where the endpoint is served already, the new release takes over
when it is ready, and the one before answers its calls to their end. A restarted service brings
endpoints back.")]
pub struct EndpointDeployOptions {
    /// A spec, a name with a model folder or GGUF file, or with --release a name; a path alone gives the endpoint its own name
    #[arg(
        value_name = "FILE|NAME=PATH|NAME",
        required_unless_present = "demo",
        conflicts_with = "demo"
    )]
    pub what: Option<String>,
    /// Serve the demo model under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Serve an earlier release again, by its number
    #[arg(long, value_name = "N", conflicts_with = "demo")]
    pub release: Option<u32>,
    /// Refuse the change when another release than this one is served
    #[arg(long, value_name = "N")]
    pub from_release: Option<u32>,
    /// Stop what is served first where memory has no room for both; callers wait meanwhile
    #[arg(long)]
    pub with_pause: bool,
    /// Print the endpoint's status as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint new ./pierdesk-1 --traffic chat --goal latency > desk.toml
  vastrelay endpoint new ./pierdesk-1 --traffic summarising --goal memory > notices.toml
  vastrelay endpoint check desk.toml

It needs no running service. Each value is a beginning, with its reason beside it.")]
pub struct EndpointNewOptions {
    /// A model folder or a GGUF file
    #[arg(value_name = "PATH")]
    pub model: PathBuf,
    /// What callers do
    #[arg(long, value_name = "KIND", default_value = "chat", value_parser = ["chat", "summarising"])]
    pub traffic: String,
    /// What matters most
    #[arg(long, value_name = "GOAL", default_value = "latency", value_parser = ["latency", "throughput", "memory"])]
    pub goal: String,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint check demo/lighthouse.toml
  vastrelay endpoint check desk=./pierdesk-1

Exit codes: 0 it could be served, 1 it could not; the message says where in the spec, and what
would work.")]
pub struct EndpointCheckOptions {
    /// A spec, or a name with a model folder or GGUF file; a path alone gives the endpoint its own name
    #[arg(value_name = "FILE|NAME=PATH")]
    pub what: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint list
  vastrelay endpoint list --json")]
pub struct EndpointListOptions {
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint show pierdesk
  vastrelay endpoint show pierdesk --spec > pierdesk.toml")]
pub struct EndpointShowOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// Print the spec alone
    #[arg(long)]
    pub spec: bool,
    /// Print JSON
    #[arg(long, conflicts_with = "spec")]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint log pierdesk
  vastrelay endpoint log pierdesk --follow

What the service did with the endpoint, and why, is in `vastrelay event list --endpoint NAME`.")]
pub struct EndpointLogOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// Maximum lines, the last ones
    #[arg(long, value_name = "N", default_value_t = 200)]
    pub most: usize,
    /// Follow their output until Ctrl-C
    #[arg(long, short)]
    pub follow: bool,
    /// Print JSON
    #[arg(long, conflicts_with = "follow")]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint wait pierdesk --within 5m

Exit codes: 0 it takes requests or is parked, 1 it is stopped, has failed, or the time is over.")]
pub struct EndpointWaitOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// How long to wait
    #[arg(long, value_name = "TIME", default_value = "10m", value_parser = duration)]
    pub within: Duration,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint stop pierdesk
  vastrelay endpoint stop pierdesk --now

New calls get 503 `endpoint_stopped`; those that run have --within to end, and end with an error
then; with --now at once. A restarted service leaves the endpoint stopped.")]
pub struct EndpointStopOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// How long requests may take to end
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = duration)]
    pub within: Duration,
    /// End requests at once, with an error
    #[arg(long, conflicts_with = "within")]
    pub now: bool,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint park pierdesk
  vastrelay endpoint park pierdesk --within 0s

The endpoint has no worker and no memory then. The next call starts it again and waits until it
is ready. With `replicas.idle_after` in its spec an endpoint is parked by itself.")]
pub struct EndpointParkOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// How long requests may take to end
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = duration)]
    pub within: Duration,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint start pierdesk")]
pub struct EndpointStartOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// Print the endpoint's status as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint renew pierdesk
  vastrelay endpoint renew pierdesk --within 0s

Each worker takes no more requests and ends when it has answered those it has. Then the next
one is started. Requests that take longer than --within go on with the next worker where they
broke off; new ones wait until it is ready. Useful after an update of the program, as a new
service takes over the workers of the earlier one.")]
pub struct EndpointRenewOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// How long requests may take to end where they are
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = duration)]
    pub within: Duration,
    /// Print the endpoint's status as JSON once its workers are new
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint remove pierdesk

Answers that are under way are completed first. Models, records, keys and runs stay as they are.
An endpoint that is stopped or has failed can be removed, too.")]
pub struct EndpointRemoveOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// Print what it was as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

/// Reads a name and the path of a model.
pub fn named_path(text: &str) -> Result<(String, PathBuf), String> {
    let (name, path) = text
        .split_once('=')
        .ok_or("write NAME=PATH, such as desk=./pierdesk-1")?;
    endpoint_name(name)?;
    if path.is_empty() {
        return Err("the path is empty".into());
    }
    // An absolute path would hide that an address or a name was meant.
    if let Some(reason) = no_path(path) {
        return Err(format!("{path}: {reason}"));
    }
    Ok((name.to_owned(), PathBuf::from(path)))
}

/// Reads a name.
pub fn endpoint_name(name: &str) -> Result<String, String> {
    vastrelay_control::endpoints::name::check_name(name).map(|()| name.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_endpoint_needs_a_name_and_a_path() {
        assert_eq!(
            named_path("desk=./a=b").unwrap(),
            ("desk".into(), PathBuf::from("./a=b"))
        );
        for wrong in ["desk", "=a", "a b=c", "desk="] {
            assert!(named_path(wrong).is_err(), "{wrong}");
        }
    }
}
