//! `vastrelay endpoint`.

use super::connection::Connection;
use clap::{Args, Subcommand};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Subcommand)]
pub enum EndpointCommand {
    /// Load a model and serve it under a name
    Deploy(EndpointDeployOptions),
    /// Give an endpoint's replicas new workers without losing a request
    Renew(EndpointRenewOptions),
    /// Stop serving under a name and free the memory
    Remove(EndpointRemoveOptions),
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint deploy --demo
  vastrelay endpoint deploy desk=./pierdesk-1

The service reads the folder, so it must be on the service's machine.")]
pub struct EndpointDeployOptions {
    /// Name for callers to use, and the model folder or GGUF file
    #[arg(value_name = "NAME=PATH", value_parser = named_path, required_unless_present = "demo", conflicts_with = "demo")]
    pub served: Option<(String, PathBuf)>,
    /// Serve the demo model under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Print the endpoint's status as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay endpoint remove pierdesk

Answers that are under way are completed first. An endpoint that has failed can be removed, too.")]
pub struct EndpointRemoveOptions {
    /// The endpoint's name
    #[arg(value_name = "NAME", value_parser = endpoint_name)]
    pub name: String,
    /// Print the endpoint's last status as JSON
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
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = humantime::parse_duration)]
    pub within: Duration,
    /// Print the endpoint's status as JSON once its workers are new
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

/// Reads a name and the path of a model.
pub(super) fn named_path(text: &str) -> Result<(String, PathBuf), String> {
    let (name, path) = text
        .split_once('=')
        .ok_or("write NAME=PATH, such as desk=./pierdesk-1")?;
    endpoint_name(name)?;
    if path.is_empty() {
        return Err("the path is empty".into());
    }
    Ok((name.to_owned(), PathBuf::from(path)))
}

fn endpoint_name(name: &str) -> Result<String, String> {
    vastrelay_service::deploy::check_name(name).map(|()| name.to_owned())
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
