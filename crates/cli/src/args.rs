//! What can be typed.

pub mod ask;
pub mod connection;
pub mod console;
pub mod device;
pub mod endpoint;
pub mod event;
pub mod fit;
pub mod job;
pub mod key;
pub mod listen;
pub mod load;
pub mod model;
pub mod near_miss;
pub mod precision;
pub mod request;
pub mod start;
pub mod status;
pub mod text;
pub mod time;
pub mod watch;

use ask::AskOptions;
use clap::{Parser, Subcommand};
use console::ConsoleOptions;
use device::DeviceCommand;
use endpoint::EndpointCommand;
use event::EventCommand;
use fit::FitOptions;
use job::JobCommand;
use key::KeyCommand;
use load::LoadCommand;
use model::ModelCommand;
use request::RequestCommand;
use start::StartOptions;
use status::StatusOptions;
use text::TextCommand;
use watch::WatchOptions;

/// Open-weight language models behind OpenAI-compatible endpoints, on our own engine.
#[derive(Parser)]
#[command(
    name = "vastrelay",
    version,
    propagate_version = true,
    after_help = "\
Examples:
  vastrelay start --demo
  vastrelay ask \"When is the last boat back on Sunday?\"
  vastrelay status

Exit codes: 0 success, 1 the command failed, 2 invalid arguments, 3 the service could not be reached."
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Start the service, with or without endpoints
    Start(Box<StartOptions>),
    /// Ask a model a question and stream the answer
    Ask(Box<AskOptions>),
    /// Show the state of the service and its endpoints
    Status(StatusOptions),
    /// Show devices and what is on them
    #[command(subcommand)]
    Device(DeviceCommand),
    /// Show which devices a model fits, how fast it would be there, and why
    Fit(Box<FitOptions>),
    /// Inspect or convert model files
    #[command(subcommand)]
    Model(ModelCommand),
    /// Deploy, renew and remove endpoints of a running service
    #[command(subcommand)]
    Endpoint(EndpointCommand),
    /// Show what happened to endpoints
    #[command(subcommand)]
    Event(EventCommand),
    /// Show, follow and cancel long work of the service
    #[command(subcommand)]
    Job(JobCommand),
    /// Show recorded requests
    #[command(subcommand)]
    Request(RequestCommand),
    /// Create, list and revoke API keys
    #[command(subcommand)]
    Key(KeyCommand),
    /// Run load tests and compare their results
    #[command(subcommand)]
    Load(LoadCommand),
    /// Print a link that opens the console in a browser
    Console(ConsoleOptions),
    /// Watch the service live in the terminal
    Watch(WatchOptions),
    /// Show how text is templated and tokenized
    #[command(subcommand)]
    Text(TextCommand),
    /// Render chat templates for a service, with little memory
    #[command(hide = true)]
    RenderTemplates,
    /// Convert a model for a service
    #[command(hide = true)]
    Convert,
    /// Run a replica for a service
    #[command(hide = true)]
    Worker,
}

#[cfg(test)]
mod tests {
    use super::Arguments;
    use clap::CommandFactory;

    #[test]
    fn the_definitions_are_consistent_and_every_command_shows_examples() {
        let mut command = Arguments::command();
        command.build();
        command.clone().debug_assert();
        let leaves = |command: &clap::Command| -> Vec<clap::Command> {
            command
                .get_subcommands()
                .filter(|sub| sub.get_name() != "help" && !sub.is_hide_set())
                .cloned()
                .collect()
        };
        for sub in leaves(&command) {
            for leaf in if sub.has_subcommands() { leaves(&sub) } else { vec![sub] } {
                let help = leaf.get_after_help().map(ToString::to_string).unwrap_or_default();
                assert!(help.contains("Examples:"), "{} has no examples", leaf.get_name());
            }
        }
    }
}
