//! `vastrelay load`.

use super::connection::Connection;
use super::time::duration;
use crate::failure::Failure;
use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;
use vastrelay_files::reason;
use vastrelay_loadtest::{Arrival, Lengths, Span};
use vastrelay_wire::load::{LoadOrder, PromptSource};

#[derive(Subcommand)]
pub enum LoadCommand {
    /// Run a load test and print a report
    #[command(after_help = "\
Examples:
  vastrelay load run --users 16 --duration 30s
  vastrelay load run --arrival poisson --rate 20 --duration 1m --out report.html
  vastrelay load run --arrival steps --steps 1,4,16,64 --each 20s --name knee
  vastrelay load run --synthetic 512 --output 64 --force-length --users 8 --count 200
  vastrelay load run --prompt 'When does the first boat leave?' --count 10
  vastrelay load run --prompts letters.jsonl --output lognormal:128,1.0 --out run.csv

Write lengths as 128, 64..256 or lognormal:128,1.0 (mean, sigma). A prompt file has one JSON object per line with
`messages`, `prompt` or `question`. Ctrl-C stops the run early and reports what was measured; twice stops at once.")]
    Run(Box<LoadRunOptions>),
    /// List saved runs, newest first
    #[command(after_help = "\
Examples:
  vastrelay load list
  vastrelay load list --json")]
    List(LoadListOptions),
    /// Show the report of a run
    #[command(after_help = "\
Examples:
  vastrelay load show last
  vastrelay load show 65f0c1-8a2e --out report.html")]
    Show(LoadShowOptions),
    /// Compare two runs and tell real differences from noise
    #[command(after_help = "\
Examples:
  vastrelay load compare narrow wide
  vastrelay load compare before.json after.json --json")]
    Compare(LoadCompareOptions),
    /// Remove saved runs for good
    #[command(after_help = "\
Examples:
  vastrelay load remove knee
  vastrelay load remove 65f0c1-8a2e last")]
    Remove(LoadRemoveOptions),
}

#[derive(Args)]
pub struct LoadRunOptions {
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Arrival process
    #[arg(long, value_enum, default_value_t = ArrivalKind::Closed)]
    pub arrival: ArrivalKind,
    /// Concurrent users; each sends its next request after the last answer (closed) [default: 8; 1 with --prompt]
    #[arg(long, value_name = "N")]
    pub users: Option<usize>,
    /// Mean requests per second (poisson) [default: 10]
    #[arg(long, value_name = "N")]
    pub rate: Option<f64>,
    /// Users in each step (steps) [default: 1,2,4,8,16,32]
    #[arg(long, value_name = "N,N,…", value_delimiter = ',')]
    pub steps: Option<Vec<usize>>,
    /// Duration of each step (steps) [default: 20s]
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub each: Option<Duration>,
    /// Prompts: the demo's questions or follow-ups, or a JSON Lines file
    #[arg(
        long,
        value_name = "SET|FILE",
        default_value = "questions",
        conflicts_with = "synthetic"
    )]
    pub prompts: String,
    /// Send this one question again and again; reports what reuse saves
    #[arg(long, value_name = "TEXT", conflicts_with_all = ["prompts", "synthetic"])]
    pub prompt: Option<String>,
    /// Send random tokens instead, with these prompt lengths
    #[arg(long, value_name = "LENGTHS")]
    pub synthetic: Option<Lengths>,
    /// Tokens that all synthetic prompts have in common at the start
    #[arg(long, value_name = "TOKENS", default_value_t = 0, requires = "synthetic")]
    pub shared_prefix: usize,
    /// Maximum tokens of the answers [default: until the model ends]
    #[arg(long, value_name = "LENGTHS")]
    pub output: Option<Lengths>,
    /// Always generate the full --output length
    #[arg(long, requires = "output")]
    pub force_length: bool,
    /// How long to send requests [default: 30s, unless --count is given]
    #[arg(long, value_name = "TIME", value_parser = duration, conflicts_with = "count")]
    pub duration: Option<Duration>,
    /// Number of requests to send
    #[arg(long, value_name = "N")]
    pub count: Option<usize>,
    /// Warm-up requests, not counted [default: one per user, 8 for poisson]
    #[arg(long, value_name = "N")]
    pub warm_up: Option<usize>,
    /// Seed for arrivals, lengths and order
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    pub seed: u64,
    /// Sampling temperature; 0 always picks the most probable token
    #[arg(long, value_name = "NUMBER", default_value_t = 0.0)]
    pub temperature: f32,
    /// Pace in tokens per second that streams should keep
    #[arg(long, value_name = "N", default_value_t = 12.0)]
    pub pace: f64,
    /// Name of the run [default: a short description]
    #[arg(long, value_name = "TEXT")]
    pub name: Option<String>,
    /// Write the report to a .html, .csv or .json file; repeatable
    #[arg(long, value_name = "FILE")]
    pub out: Vec<PathBuf>,
    /// Do not save the run in the service
    #[arg(long)]
    pub forget: bool,
    /// Print the summary as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ArrivalKind {
    /// A fixed number of concurrent users
    Closed,
    /// Independent arrivals at a mean rate, even while earlier requests run
    Poisson,
    /// Closed, with a number of users that changes in steps
    Steps,
}

impl ArrivalKind {
    fn name(self) -> &'static str {
        match self {
            ArrivalKind::Closed => "closed",
            ArrivalKind::Poisson => "poisson",
            ArrivalKind::Steps => "steps",
        }
    }
}

#[derive(Args)]
pub struct LoadListOptions {
    /// Maximum runs to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct LoadShowOptions {
    /// Run id or name, a .json report file, or `last`
    #[arg(value_name = "RUN")]
    pub run: String,
    /// Write the report to a .html, .csv or .json file; repeatable
    #[arg(long, value_name = "FILE")]
    pub out: Vec<PathBuf>,
    /// Print the summary as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct LoadCompareOptions {
    /// Baseline run: id, name, .json file or `last`
    #[arg(value_name = "A")]
    pub a: String,
    /// Run to compare with the baseline
    #[arg(value_name = "B")]
    pub b: String,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct LoadRemoveOptions {
    /// Run id or name (its newest run), or `last`
    #[arg(value_name = "RUN", required = true)]
    pub runs: Vec<String>,
    /// Print the ids of the removed runs as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

impl LoadRunOptions {
    /// Returns what they ask for.
    pub fn order(&self, model: String) -> Result<LoadOrder, Failure> {
        self.check_arrival()?;
        let usual_users = if self.prompt.is_some() { 1 } else { 8 };
        let arrival = match self.arrival {
            ArrivalKind::Closed => Arrival::Closed {
                users: self.users.unwrap_or(usual_users),
            },
            ArrivalKind::Poisson => Arrival::Poisson {
                rate: self.rate.unwrap_or(10.0),
            },
            ArrivalKind::Steps => Arrival::Steps {
                users: self.steps.clone().unwrap_or(vec![1, 2, 4, 8, 16, 32]),
                seconds: self.each.map_or(20.0, |each| each.as_secs_f64()),
            },
        };
        let span = match (self.count, &arrival) {
            (Some(count), _) => Span::Requests(count),
            (None, Arrival::Steps { users, seconds }) => Span::Seconds(users.len() as f64 * seconds),
            (None, _) => Span::Seconds(self.duration.map_or(30.0, |time| time.as_secs_f64())),
        };
        Ok(LoadOrder {
            model,
            name: self.name.clone(),
            arrival,
            span,
            prompts: self.prompts()?,
            warm_up: self.warm_up,
            output: self.output.map(|lengths| lengths.to_string()),
            force_length: self.force_length,
            temperature: self.temperature,
            seed: self.seed,
            pace: self.pace,
        })
    }

    /// Refuses options of another arrival process than the one that is asked for.
    fn check_arrival(&self) -> Result<(), Failure> {
        let given = [
            ("--users", self.users.is_some(), ArrivalKind::Closed),
            ("--rate", self.rate.is_some(), ArrivalKind::Poisson),
            ("--steps", self.steps.is_some(), ArrivalKind::Steps),
            ("--each", self.each.is_some(), ArrivalKind::Steps),
        ];
        match given.into_iter().find(|(_, given, of)| *given && *of != self.arrival) {
            None => Ok(()),
            Some((option, _, of)) => Err(Failure::usage(format!(
                "{option} goes with --arrival {}, and the arrival is {}",
                of.name(),
                self.arrival.name()
            ))),
        }
    }

    fn prompts(&self) -> Result<PromptSource, Failure> {
        if let Some(text) = &self.prompt {
            return Ok(PromptSource::Question { text: text.clone() });
        }
        if let Some(lengths) = self.synthetic {
            return Ok(PromptSource::Synthetic {
                lengths: lengths.to_string(),
                shared_prefix: self.shared_prefix,
            });
        }
        let name = self.prompts.clone();
        if matches!(name.as_str(), "questions" | "follow-ups") {
            return Ok(PromptSource::Set { name });
        }
        let text = std::fs::read_to_string(&name).map_err(|e| {
            Failure::usage(format!(
                "--prompts: {name}: {}; use questions, follow-ups or a file in JSON Lines",
                reason(&e)
            ))
        })?;
        Ok(PromptSource::Lines { name, text })
    }
}
