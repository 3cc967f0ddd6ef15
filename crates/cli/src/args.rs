//! What can be typed.

use crate::failure::Failure;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;
use vastrelay_loadtest::Lengths;
use vastrelay_serving::{KvPrecision, Precision};

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

Exit codes: 0 done, 1 what was asked for failed, 2 the words were wrong, 3 the service could not be reached."
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Start the service, with models or without
    Start(Box<StartOptions>),
    /// Ask a model something and show the answer as it comes
    Ask(Box<AskOptions>),
    /// Show how the service and its models stand
    Status(StatusOptions),
    /// Look at a model's files, or serve it while the service runs
    #[command(subcommand)]
    Model(ModelCommand),
    /// Look at the calls that were answered
    #[command(subcommand)]
    Requests(RequestsCommand),
    /// Make, list and revoke the keys that callers need
    #[command(subcommand)]
    Key(KeyCommand),
    /// Send load and measure what it does
    #[command(subcommand)]
    Load(LoadCommand),
    /// Watch the service live, in this terminal
    Watch(WatchOptions),
    /// See what a model would get: templates, tokens, lengths
    #[command(subcommand)]
    Text(TextCommand),
    /// Render chat templates for a service, with little memory
    #[command(hide = true)]
    RenderTemplates,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay start --demo                                  the ferry desk of the Harrow Isles, as `pierdesk`
  vastrelay start --model desk=./pierdesk-1 --width 32    a folder of safetensors, as `desk`
  vastrelay start --demo --context 1024 --memory-share 0.2
  vastrelay start --demo --listen 0.0.0.0:7411 --tls-cert relay.pem --tls-key relay.key --host relay.example

The folder holds config.json, tokenizer.json and model.safetensors (one file, or shards with their index); one GGUF file
holds all of it.")]
pub struct StartOptions {
    /// Serve the demo model `pierdesk@1` under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Serve a folder of weights, or a GGUF file, under a name; may be given several times
    #[arg(long = "model", value_name = "NAME=PATH", value_parser = named_folder)]
    pub models: Vec<(String, PathBuf)>,
    /// Where the database and the demo's weights are kept [default: the platform's data directory]
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    /// Where to listen; port 0 takes a free one
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:7411")]
    pub listen: SocketAddr,
    /// Most sequences in one batch
    #[arg(long, value_name = "N", default_value_t = 16)]
    pub width: usize,
    /// Most tokens in one step, prefill and decode together
    #[arg(long, value_name = "TOKENS", default_value_t = 320)]
    pub step_budget: usize,
    /// Most tokens of one sequence, prompt plus output [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Most requests that wait for a place in the batch
    #[arg(long, value_name = "N", default_value_t = 400)]
    pub queue_depth: usize,
    /// Most prompt tokens of one sequence in one step [default: the step budget]
    #[arg(long, value_name = "TOKENS")]
    pub prefill_chunk: Option<usize>,
    /// Cores for each model [default: all but one, which serves HTTP]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Shards that each model is divided into, each with its own part of weights, KV memory and cores
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    /// Fraction of this machine's memory that each model may take
    #[arg(long, value_name = "FRACTION", default_value_t = 0.4)]
    pub memory_share: f64,
    /// KV pages of 16 tokens, of the layers that see farthest [default: as many as fit and are of use]
    #[arg(long, value_name = "N")]
    pub pages: Option<usize>,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Want a key from every caller, also on loopback; elsewhere they are always wanted
    #[arg(long)]
    pub require_key: bool,
    /// A name that the service answers to besides localhost and its addresses; may be given several times
    #[arg(long = "host", value_name = "NAME")]
    pub hosts: Vec<String>,
    /// Let pages of this origin call the service; may be given several times [default: its own pages only]
    #[arg(long = "origin", value_name = "URL", value_parser = origin)]
    pub origins: Vec<String>,
    /// Speak TLS with this certificate chain, a PEM file
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// The certificate's private key, a PEM file
    #[arg(long, value_name = "FILE", requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
    /// How long calls stay on record
    #[arg(long, value_name = "TIME", default_value = "30d", value_parser = humantime::parse_duration)]
    pub records_age: Duration,
    /// How large the records may grow before the oldest go
    #[arg(long, value_name = "SIZE", default_value = "1GiB")]
    pub records_size: bytesize::ByteSize,
    /// Keep prompts and answers with the records
    #[arg(long)]
    pub record_texts: bool,
    /// Let callers with different keys reuse each other's cached prompts; by default each key has its own
    #[arg(long)]
    pub share_cache: bool,
    /// How often a line in the log sums up what was done; 0s for never
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = humantime::parse_duration)]
    pub summary: Duration,
    /// How log lines on standard error look
    #[arg(long, value_enum, default_value_t = LogForm::Text)]
    pub log: LogForm,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogForm {
    /// For people
    Text,
    /// One JSON object a line
    Json,
}

#[derive(Subcommand)]
pub enum ModelCommand {
    /// Load a model and serve it from now on
    Start(ModelStartOptions),
    /// Stop serving a model and free its memory
    Stop(ModelStopOptions),
    /// Say what a folder or file holds and whether it would run here, without a service
    Inspect(ModelInspectOptions),
    /// Convert a checkpoint once, ahead of time, and say what that costs
    Build(ModelBuildOptions),
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model build ./pierdesk-1 --weights int8 --out ./pierdesk-1-int8
  vastrelay model build ./model.gguf --weights int4 --group 64 --calibrate notes.txt --out ./model-int4
  vastrelay start --model desk=./pierdesk-1-int8

A build is converted once and mapped at start. What it costs is measured on a text, before and after.")]
pub struct ModelBuildOptions {
    /// A folder of safetensors, or a GGUF file
    pub path: PathBuf,
    /// The folder to make
    #[arg(long, value_name = "DIR")]
    pub out: PathBuf,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Round with an eye on what this text makes of the model's inputs (int8 and int4)
    #[arg(long, value_name = "FILE")]
    pub calibrate: Option<PathBuf>,
    /// Measure the loss on this text [default: one that comes with the program]
    #[arg(long, value_name = "FILE")]
    pub text: Option<PathBuf>,
    /// Cores to use [default: all]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
}

/// What weights, and keys and values, are computed in.
#[derive(Args, Clone)]
pub struct PrecisionOptions {
    /// What matrices are turned into when they are loaded; embeddings and head keep what is stored for int8 and int4
    #[arg(long, value_name = "PRECISION", value_parser = ["as-stored", "f32", "bf16", "int8", "int4"], default_value = "as-stored")]
    pub weights: String,
    /// Weights of a row that share a scale, for int8 and int4: 32, 64 or 128 [default: 32]
    #[arg(long, value_name = "N")]
    pub group: Option<usize>,
    /// How keys and values are kept [default: as the build says, else f32]
    #[arg(long, value_name = "PRECISION")]
    pub kv: Option<Kv>,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Kv {
    F32,
    Bf16,
    Int8,
}

impl From<Kv> for KvPrecision {
    fn from(kv: Kv) -> KvPrecision {
        match kv {
            Kv::F32 => KvPrecision::F32,
            Kv::Bf16 => KvPrecision::Bf16,
            Kv::Int8 => KvPrecision::Int8,
        }
    }
}

impl PrecisionOptions {
    /// Returns the precision of weights.
    pub fn weights(&self) -> Result<Precision, Failure> {
        let precision: Precision = self.weights.parse().map_err(Failure::usage)?;
        match (precision, self.group) {
            (precision, None) => Ok(precision),
            (Precision::Groups { bits, .. }, Some(group @ (32 | 64 | 128))) => Ok(Precision::Groups { bits, group }),
            (Precision::Groups { .. }, Some(group)) => {
                Err(Failure::usage(format!("--group {group} cannot be; 32, 64 and 128 can")))
            }
            (precision, Some(_)) => Err(Failure::usage(format!(
                "--group is for int8 and int4; {} has no groups",
                precision.name()
            ))),
        }
    }
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model inspect ./pierdesk-1
  vastrelay model inspect ./model.gguf --json
  vastrelay model inspect ./model.gguf --weights int4 --group 64")]
pub struct ModelInspectOptions {
    /// A folder of safetensors, or a GGUF file
    pub path: PathBuf,
    /// Most sequences in one batch, for the arithmetic of memory
    #[arg(long, value_name = "N", default_value_t = 16)]
    pub width: usize,
    /// Most tokens in one step
    #[arg(long, value_name = "TOKENS", default_value_t = 320)]
    pub step_budget: usize,
    /// Most tokens of one sequence [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Fraction of this machine's memory that it may take
    #[arg(long, value_name = "FRACTION", default_value_t = 0.4)]
    pub memory_share: f64,
    /// Shards that it is divided into
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Print all of it as JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model start --demo
  vastrelay model start desk=./pierdesk-1

The service reads the folder, so it has to lie on the service's machine.")]
pub struct ModelStartOptions {
    /// The name that callers will use, and the folder of weights
    #[arg(value_name = "NAME=PATH", value_parser = named_folder, required_unless_present = "demo", conflicts_with = "demo")]
    pub model: Option<(String, PathBuf)>,
    /// Serve the demo model under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Print how the model stands as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model stop pierdesk

Answers that are under way are completed first. A model that has failed can be stopped, too.")]
pub struct ModelStopOptions {
    /// The model's name
    #[arg(value_name = "NAME", value_parser = model_name)]
    pub name: String,
    /// Print the model's last status as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

/// Where the service is.
#[derive(Args)]
pub struct Connection {
    /// The service's address
    #[arg(
        long,
        env = "VASTRELAY_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:7411",
        hide_env_values = true
    )]
    pub url: String,
    /// The key to call it with
    #[arg(long, env = "VASTRELAY_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// Trust this certificate too, a PEM file
    #[arg(long, env = "VASTRELAY_CA", value_name = "FILE")]
    pub ca: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay ask \"When is the last boat back on Sunday?\"
  vastrelay ask --figures \"Can I bring my dog?\"
  echo \"Timetable to Tolsay on Saturday?\" | vastrelay ask
  vastrelay ask --stdin \"Answer this letter:\" < letter.txt
  vastrelay ask --json --seed 7 --temperature 0.8 \"Tell me a joke\"

Ctrl-C stops the answer and takes the request out of the batch.")]
pub struct AskOptions {
    /// What to ask; without it, the question is what is piped in
    #[arg(value_name = "QUESTION")]
    pub question: Option<String>,
    /// Which model [default: the only one there is]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// What the model is told before the question
    #[arg(long, value_name = "TEXT")]
    pub system: Option<String>,
    /// Most tokens of the answer
    #[arg(long, value_name = "TOKENS")]
    pub max_tokens: Option<u32>,
    /// 0 always takes the most probable token, more makes answers vary
    #[arg(long, value_name = "NUMBER")]
    pub temperature: Option<f32>,
    /// Choose among the tokens that make up this share of probability
    #[arg(long, value_name = "SHARE")]
    pub top_p: Option<f32>,
    /// Choose among so many of the most probable tokens
    #[arg(long, value_name = "N")]
    pub top_k: Option<u32>,
    /// Leave out tokens below this share of the most probable one
    #[arg(long, value_name = "SHARE")]
    pub min_p: Option<f32>,
    /// Make sampling repeatable
    #[arg(long, value_name = "NUMBER")]
    pub seed: Option<i64>,
    /// End the answer before this text; may be given several times
    #[arg(long, value_name = "TEXT")]
    pub stop: Vec<String>,
    /// Add what is piped in to the question that is typed
    #[arg(long)]
    pub stdin: bool,
    /// Print the whole answer as JSON
    #[arg(long)]
    pub json: bool,
    /// Print what was measured, after the answer
    #[arg(long)]
    pub figures: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay status
  vastrelay status --json")]
pub struct StatusOptions {
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Subcommand)]
pub enum RequestsCommand {
    /// List the last calls, newest first
    #[command(after_help = "\
Examples:
  vastrelay requests list
  vastrelay requests list --failed --within 1h
  vastrelay requests list --slower 2s --model pierdesk
  vastrelay requests list --most 100 --json")]
    List(RequestsListOptions),
    /// Show one call: its life as a bar, its figures and parameters
    #[command(after_help = "\
Examples:
  vastrelay requests show 3f9a
  vastrelay requests show last
  vastrelay requests show 3f9a --json")]
    Show(RequestsShowOptions),
}

#[derive(Args)]
pub struct RequestsListOptions {
    /// Most calls to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Only calls of this model
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Only calls that ended so, such as length or queue_full
    #[arg(long, value_name = "NAME")]
    pub outcome: Option<String>,
    /// Only calls with the key of this name
    #[arg(long, value_name = "NAME")]
    pub caller: Option<String>,
    /// Only calls that failed or were refused
    #[arg(long)]
    pub failed: bool,
    /// Only calls of the last while, such as 15m
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub within: Option<Duration>,
    /// Only calls that took so long to the end, such as 500ms
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub slower: Option<Duration>,
    /// Only calls that took so long to the first token
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub slower_start: Option<Duration>,
    /// Print them as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct RequestsShowOptions {
    /// The request's id or its beginning; `last` for the last call
    #[arg(value_name = "ID")]
    pub id: String,
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Make a key; it is shown this once
    #[command(after_help = "\
Examples:
  vastrelay key create --name \"ferry desk\"
  vastrelay key create --name nightly --expires 30d --rate 60 --at-once 4
  vastrelay key create --name ops --scope manage --data /var/lib/vastrelay     without a service, straight into its database")]
    Create(KeyCreateOptions),
    /// List the keys, without their secrets
    #[command(after_help = "\
Examples:
  vastrelay key list
  vastrelay key list --json")]
    List(KeyListOptions),
    /// Revoke a key, at once and for good
    #[command(after_help = "\
Examples:
  vastrelay key revoke 1f0c22ab")]
    Revoke(KeyRevokeOptions),
}

/// Where keys are kept: by the service, or in a folder that no service need use.
#[derive(Args)]
pub struct KeyPlace {
    /// Work on the database in this folder, without calling a service
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct KeyCreateOptions {
    /// A name for people
    #[arg(long, value_name = "NAME")]
    pub name: String,
    /// What it may be used for
    #[arg(long, value_enum, default_value_t = Scope::Use)]
    pub scope: Scope,
    /// When it ends, from now on, such as 30d [default: never]
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub expires: Option<Duration>,
    /// Most calls a minute [default: no limit]
    #[arg(long, value_name = "N")]
    pub rate: Option<u32>,
    /// Most calls at the same time [default: no limit]
    #[arg(long, value_name = "N")]
    pub at_once: Option<u32>,
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub place: KeyPlace,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Scope {
    /// Calling models and reading metrics
    Use,
    /// That, and managing the service
    Manage,
}

#[derive(Args)]
pub struct KeyListOptions {
    /// Print them as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub place: KeyPlace,
}

#[derive(Args)]
pub struct KeyRevokeOptions {
    /// The key's id: what stands between the hyphens of the key
    #[arg(value_name = "ID")]
    pub id: String,
    #[command(flatten)]
    pub place: KeyPlace,
}

#[derive(Subcommand)]
pub enum LoadCommand {
    /// Send a workload and report what came of it
    #[command(after_help = "\
Examples:
  vastrelay load run --users 16 --duration 30s
  vastrelay load run --arrival poisson --rate 20 --duration 1m --out report.html
  vastrelay load run --arrival steps --steps 1,4,16,64 --each 20s --name knee
  vastrelay load run --synthetic 512 --output 64 --force-length --users 8 --count 200
  vastrelay load run --prompts letters.jsonl --output lognormal:128,1.0 --out run.csv

Lengths are written 128, 64..256 or lognormal:128,1.0 (mean, sigma). A file of prompts has one JSON object a line, with
messages, a prompt to be continued, or a question. Ctrl-C ends the run early and keeps what it has.")]
    Run(Box<LoadRunOptions>),
    /// List the runs that are kept, newest first
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
    /// Compare two runs: which differences are real, and what differs between the set-ups
    #[command(after_help = "\
Examples:
  vastrelay load compare narrow wide
  vastrelay load compare before.json after.json --json")]
    Compare(LoadCompareOptions),
}

#[derive(Args)]
pub struct LoadRunOptions {
    /// Which model [default: the only one there is]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// How requests arrive
    #[arg(long, value_enum, default_value_t = ArrivalKind::Closed)]
    pub arrival: ArrivalKind,
    /// Users at once, each sending when its last answer has ended (closed)
    #[arg(long, value_name = "N", default_value_t = 8)]
    pub users: usize,
    /// Requests a second, on average (poisson)
    #[arg(long, value_name = "N", default_value_t = 10.0)]
    pub rate: f64,
    /// Users of each step, one after the other (steps)
    #[arg(long, value_name = "N,N,…", value_delimiter = ',', default_values_t = [1, 2, 4, 8, 16, 32])]
    pub steps: Vec<usize>,
    /// How long each step lasts (steps)
    #[arg(long, value_name = "TIME", default_value = "20s", value_parser = humantime::parse_duration)]
    pub each: Duration,
    /// What is sent: questions or follow-ups of the demo, or a file in JSON Lines
    #[arg(
        long,
        value_name = "SET|FILE",
        default_value = "questions",
        conflicts_with = "synthetic"
    )]
    pub prompts: String,
    /// Send different prompts of random tokens instead, with these lengths
    #[arg(long, value_name = "LENGTHS")]
    pub synthetic: Option<Lengths>,
    /// Let synthetic prompts begin with so many tokens in common
    #[arg(long, value_name = "TOKENS", default_value_t = 0, requires = "synthetic")]
    pub shared_prefix: usize,
    /// Most tokens of the answers [default: the model's own end]
    #[arg(long, value_name = "LENGTHS")]
    pub output: Option<Lengths>,
    /// Let answers go on until they have that length
    #[arg(long, requires = "output")]
    pub force_length: bool,
    /// For how long requests are sent [default: 30s, unless --count is given]
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration, conflicts_with = "count")]
    pub duration: Option<Duration>,
    /// How many requests are sent
    #[arg(long, value_name = "N")]
    pub count: Option<usize>,
    /// Requests sent before and not counted [default: as many as there are users, 8 for poisson]
    #[arg(long, value_name = "N")]
    pub warm_up: Option<usize>,
    /// Makes arrivals, lengths and order repeatable
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    pub seed: u64,
    /// 0 always takes the most probable token
    #[arg(long, value_name = "NUMBER", default_value_t = 0.0)]
    pub temperature: f32,
    /// Tokens a second that a stream should keep, such as a reader's
    #[arg(long, value_name = "N", default_value_t = 12.0)]
    pub pace: f64,
    /// The run's name [default: what it does, in short]
    #[arg(long, value_name = "TEXT")]
    pub name: Option<String>,
    /// Write the report to a file: .html, .csv or .json; may be given several times
    #[arg(long, value_name = "FILE")]
    pub out: Vec<PathBuf>,
    /// Do not keep the run with the service
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
    /// So many users at once
    Closed,
    /// Independent arrivals at a rate, whether or not earlier answers have ended
    Poisson,
    /// Closed, with a changing number of users
    Steps,
}

#[derive(Args)]
pub struct LoadListOptions {
    /// Most runs to list
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Print them as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct LoadShowOptions {
    /// The run's id or name, a file that `load run --out` wrote as .json, or `last`
    #[arg(value_name = "RUN")]
    pub run: String,
    /// Write the report to a file: .html, .csv or .json; may be given several times
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
    /// The run to compare with: id, name, .json file or `last`
    #[arg(value_name = "A")]
    pub a: String,
    /// The run that is compared
    #[arg(value_name = "B")]
    pub b: String,
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay watch
  vastrelay watch --url http://relay.example:7411

q or Esc ends it; so does Ctrl-C.")]
pub struct WatchOptions {
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Subcommand)]
pub enum TextCommand {
    /// Render a question with the model's chat template
    #[command(after_help = "\
Examples:
  vastrelay text render \"Can I bring my dog?\"")]
    Render(TextOptions),
    /// Count the tokens of a text
    #[command(after_help = "\
Examples:
  vastrelay text count \"Can I bring my dog?\"
  vastrelay text count < letter.txt")]
    Count(TextOptions),
    /// Show the tokens of a text
    #[command(after_help = "\
Examples:
  vastrelay text encode \"Can I bring my dog?\"
  vastrelay text encode --json < letter.txt")]
    Encode(TextOptions),
    /// Show the text of token ids
    #[command(after_help = "\
Examples:
  vastrelay text decode 372 1183 9")]
    Decode(DecodeOptions),
    /// Show how likely each token of a text is after those before it
    #[command(after_help = "\
Examples:
  vastrelay text score \"The last boat back leaves at 18:00.\"
  vastrelay text score --json < letter.txt")]
    Score(TextOptions),
}

#[derive(Args)]
pub struct TextOptions {
    /// The text; without it, what is piped in
    #[arg(value_name = "TEXT")]
    pub text: Option<String>,
    /// Which model [default: the only one there is]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct DecodeOptions {
    /// Ids of tokens
    #[arg(value_name = "ID", required = true)]
    pub ids: Vec<u32>,
    /// Which model [default: the only one there is]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print it as JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

fn origin(text: &str) -> Result<String, String> {
    let well = text
        .split_once("://")
        .is_some_and(|(scheme, host)| ["http", "https"].contains(&scheme) && !host.is_empty() && !host.contains('/'));
    if well {
        Ok(text.to_owned())
    } else {
        Err("an origin has the form https://desk.example, without a path".into())
    }
}

fn named_folder(text: &str) -> Result<(String, PathBuf), String> {
    let (name, path) = text
        .split_once('=')
        .ok_or("it needs the form NAME=PATH, such as desk=./pierdesk-1")?;
    model_name(name)?;
    if path.is_empty() {
        return Err("the path is empty".into());
    }
    Ok((name.to_owned(), PathBuf::from(path)))
}

fn model_name(name: &str) -> Result<String, String> {
    vastrelay_service::models::check_name(name).map(|()| name.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
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

    #[test]
    fn a_model_needs_a_name_and_a_path() {
        assert_eq!(
            named_folder("desk=./a=b").unwrap(),
            ("desk".into(), PathBuf::from("./a=b"))
        );
        for wrong in ["desk", "=a", "a b=c", "desk="] {
            assert!(named_folder(wrong).is_err(), "{wrong}");
        }
    }
}
