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

Exit codes: 0 success, 1 the command failed, 2 invalid arguments, 3 the service could not be reached."
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Start the service, with or without models
    Start(Box<StartOptions>),
    /// Ask a model a question and stream the answer
    Ask(Box<AskOptions>),
    /// Show the state of the service and its models
    Status(StatusOptions),
    /// Inspect or convert model files; start and stop models in a running service
    #[command(subcommand)]
    Model(ModelCommand),
    /// Show recorded requests
    #[command(subcommand)]
    Requests(RequestsCommand),
    /// Create, list and revoke API keys
    #[command(subcommand)]
    Key(KeyCommand),
    /// Run load tests and compare their results
    #[command(subcommand)]
    Load(LoadCommand),
    /// Watch the service live in the terminal
    Watch(WatchOptions),
    /// Show how text is templated and tokenized
    #[command(subcommand)]
    Text(TextCommand),
    /// Render chat templates for a service, with little memory
    #[command(hide = true)]
    RenderTemplates,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay start --demo                                  serve the demo model as `pierdesk`
  vastrelay start --model desk=./pierdesk-1 --width 32    serve a folder of safetensors as `desk`
  vastrelay start --demo --context 1024 --memory-share 0.2
  vastrelay start --demo --listen 0.0.0.0:7411 --tls-cert relay.pem --tls-key relay.key --host relay.example

A model folder contains config.json, tokenizer.json and model.safetensors (one file, or shards with an index). A GGUF
file contains everything.")]
pub struct StartOptions {
    /// Serve the demo model `pierdesk@1` under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Serve a model folder or GGUF file under a name; repeatable
    #[arg(long = "model", value_name = "NAME=PATH", value_parser = named_folder)]
    pub models: Vec<(String, PathBuf)>,
    /// Folder for the database and the demo's weights [default: the platform's data directory]
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    /// Address to listen on; port 0 picks a free port
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:7411")]
    pub listen: SocketAddr,
    /// Maximum sequences in a batch
    #[arg(long, value_name = "N", default_value_t = 16)]
    pub width: usize,
    /// Maximum tokens in a step, prefill and decode together
    #[arg(long, value_name = "TOKENS", default_value_t = 320)]
    pub step_budget: usize,
    /// Maximum tokens of a sequence, prompt plus output [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Maximum requests waiting for the batch
    #[arg(long, value_name = "N", default_value_t = 400)]
    pub queue_depth: usize,
    /// Maximum prompt tokens of one sequence in a step [default: as many as streams can bear]
    #[arg(long, value_name = "TOKENS")]
    pub prefill_chunk: Option<usize>,
    /// Cores per model [default: all but one, which serves HTTP]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Instruction set of the kernels: portable, avx2, avx512 or avx512-vnni [default: the best of this machine]
    #[arg(long, value_name = "NAME")]
    pub kernel: Option<String>,
    /// Shards per model, each with its own weights, KV memory and cores
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    /// Fraction of this machine's memory that each model may use
    #[arg(long, value_name = "FRACTION", default_value_t = 0.4)]
    pub memory_share: f64,
    /// KV pages of 16 tokens, for layers without a window [default: as many as fit and are useful]
    #[arg(long, value_name = "N")]
    pub pages: Option<usize>,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Require a key even on loopback (always required elsewhere)
    #[arg(long)]
    pub require_key: bool,
    /// Accept requests for this host name, besides localhost and its addresses; repeatable
    #[arg(long = "host", value_name = "NAME")]
    pub hosts: Vec<String>,
    /// Allow pages of this origin to call the service; repeatable [default: its own pages only]
    #[arg(long = "origin", value_name = "URL", value_parser = origin)]
    pub origins: Vec<String>,
    /// Certificate chain for TLS, a PEM file
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// Private key of the certificate, a PEM file
    #[arg(long, value_name = "FILE", requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
    /// How long request records are kept
    #[arg(long, value_name = "TIME", default_value = "30d", value_parser = humantime::parse_duration)]
    pub records_age: Duration,
    /// Maximum size of the database before the oldest records are deleted
    #[arg(long, value_name = "SIZE", default_value = "1GiB")]
    pub records_size: bytesize::ByteSize,
    /// Record prompts and answers
    #[arg(long)]
    pub record_texts: bool,
    /// Share cached prompts between keys; by default each key has its own cache
    #[arg(long)]
    pub share_cache: bool,
    /// How often to log a summary line; 0s for never
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = humantime::parse_duration)]
    pub summary: Duration,
    /// Format of log lines on standard error
    #[arg(long, value_enum, default_value_t = LogForm::Text)]
    pub log: LogForm,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogForm {
    /// Plain text
    Text,
    /// One JSON object per line
    Json,
}

#[derive(Subcommand)]
pub enum ModelCommand {
    /// Load a model and start serving it
    Start(ModelStartOptions),
    /// Stop serving a model and free its memory
    Stop(ModelStopOptions),
    /// Show what a model folder or file contains and whether it would run here
    Inspect(ModelInspectOptions),
    /// Convert a checkpoint ahead of time and measure the quality loss
    Build(ModelBuildOptions),
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model build ./pierdesk-1 --weights int8 --out ./pierdesk-1-int8
  vastrelay model build ./model.gguf --weights int4 --group 64 --calibrate notes.txt --out ./model-int4
  vastrelay start --model desk=./pierdesk-1-int8

A build is converted once and memory-mapped at start. Its quality is measured on a text before and after.")]
pub struct ModelBuildOptions {
    /// A folder of safetensors, or a GGUF file
    pub path: PathBuf,
    /// Folder to create
    #[arg(long, value_name = "DIR")]
    pub out: PathBuf,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Text for calibrated rounding (int8 and int4)
    #[arg(long, value_name = "FILE")]
    pub calibrate: Option<PathBuf>,
    /// Text to measure the loss on [default: a built-in sample]
    #[arg(long, value_name = "FILE")]
    pub text: Option<PathBuf>,
    /// Cores to use [default: all]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Print the report as JSON
    #[arg(long)]
    pub json: bool,
}

/// Precision of weights and KV cache.
#[derive(Args, Clone)]
pub struct PrecisionOptions {
    /// Weight precision to run in; with int8 and int4, embeddings and head stay as stored
    #[arg(long, value_name = "PRECISION", value_parser = ["as-stored", "f32", "bf16", "int8", "int4"], default_value = "as-stored")]
    pub weights: String,
    /// Weights per scale, for int8 and int4: 32, 64 or 128 [default: 32]
    #[arg(long, value_name = "N")]
    pub group: Option<usize>,
    /// KV cache precision [default: the build's own, else bf16]
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
            (Precision::Groups { .. }, Some(group)) => Err(Failure::usage(format!(
                "--group {group} does not work; use 32, 64 or 128"
            ))),
            (precision, Some(_)) => Err(Failure::usage(format!(
                "--group works with int8 and int4 only; {} has no groups",
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
    /// Maximum sequences in a batch, for the memory plan
    #[arg(long, value_name = "N", default_value_t = 16)]
    pub width: usize,
    /// Maximum tokens in a step
    #[arg(long, value_name = "TOKENS", default_value_t = 320)]
    pub step_budget: usize,
    /// Maximum tokens of a sequence [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Fraction of this machine's memory that it may use
    #[arg(long, value_name = "FRACTION", default_value_t = 0.4)]
    pub memory_share: f64,
    /// Shards to split it into
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    #[command(flatten)]
    pub precision: PrecisionOptions,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay model start --demo
  vastrelay model start desk=./pierdesk-1

The service reads the folder, so it must be on the service's machine.")]
pub struct ModelStartOptions {
    /// Name for callers to use, and the model folder or GGUF file
    #[arg(value_name = "NAME=PATH", value_parser = named_folder, required_unless_present = "demo", conflicts_with = "demo")]
    pub model: Option<(String, PathBuf)>,
    /// Serve the demo model under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Print the model's status as JSON
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
    /// API key
    #[arg(long, env = "VASTRELAY_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// Additional certificate to trust, a PEM file
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

Ctrl-C stops the answer and cancels the request.")]
pub struct AskOptions {
    /// The question; read from standard input if omitted
    #[arg(value_name = "QUESTION")]
    pub question: Option<String>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// System prompt
    #[arg(long, value_name = "TEXT")]
    pub system: Option<String>,
    /// Maximum tokens of the answer
    #[arg(long, value_name = "TOKENS")]
    pub max_tokens: Option<u32>,
    /// Sampling temperature; 0 always picks the most probable token
    #[arg(long, value_name = "NUMBER")]
    pub temperature: Option<f32>,
    /// Sample from the tokens that make up this share of probability
    #[arg(long, value_name = "SHARE")]
    pub top_p: Option<f32>,
    /// Sample from this many of the most probable tokens
    #[arg(long, value_name = "N")]
    pub top_k: Option<u32>,
    /// Exclude tokens below this share of the most probable one
    #[arg(long, value_name = "SHARE")]
    pub min_p: Option<f32>,
    /// Seed for repeatable sampling
    #[arg(long, value_name = "NUMBER")]
    pub seed: Option<i64>,
    /// Stop at this text; repeatable
    #[arg(long, value_name = "TEXT")]
    pub stop: Vec<String>,
    /// Append standard input to the question
    #[arg(long)]
    pub stdin: bool,
    /// Print the whole answer as JSON
    #[arg(long)]
    pub json: bool,
    /// Print timings after the answer
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
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Subcommand)]
pub enum RequestsCommand {
    /// List recent requests, newest first
    #[command(after_help = "\
Examples:
  vastrelay requests list
  vastrelay requests list --failed --within 1h
  vastrelay requests list --slower 2s --model pierdesk
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
    /// Only requests for this model
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
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

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Create a key; it is shown only once
    #[command(after_help = "\
Examples:
  vastrelay key create --name \"ferry desk\"
  vastrelay key create --name nightly --expires 30d --rate 60 --at-once 4
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
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    pub expires: Option<Duration>,
    /// Maximum calls per minute [default: no limit]
    #[arg(long, value_name = "N")]
    pub rate: Option<u32>,
    /// Maximum concurrent calls [default: no limit]
    #[arg(long, value_name = "N")]
    pub at_once: Option<u32>,
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

#[derive(Subcommand)]
pub enum LoadCommand {
    /// Run a load test and print a report
    #[command(after_help = "\
Examples:
  vastrelay load run --users 16 --duration 30s
  vastrelay load run --arrival poisson --rate 20 --duration 1m --out report.html
  vastrelay load run --arrival steps --steps 1,4,16,64 --each 20s --name knee
  vastrelay load run --synthetic 512 --output 64 --force-length --users 8 --count 200
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
}

#[derive(Args)]
pub struct LoadRunOptions {
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Arrival process
    #[arg(long, value_enum, default_value_t = ArrivalKind::Closed)]
    pub arrival: ArrivalKind,
    /// Concurrent users; each sends its next request after the last answer (closed)
    #[arg(long, value_name = "N", default_value_t = 8)]
    pub users: usize,
    /// Mean requests per second (poisson)
    #[arg(long, value_name = "N", default_value_t = 10.0)]
    pub rate: f64,
    /// Users in each step (steps)
    #[arg(long, value_name = "N,N,…", value_delimiter = ',', default_values_t = [1, 2, 4, 8, 16, 32])]
    pub steps: Vec<usize>,
    /// Duration of each step (steps)
    #[arg(long, value_name = "TIME", default_value = "20s", value_parser = humantime::parse_duration)]
    pub each: Duration,
    /// Prompts: the demo's questions or follow-ups, or a JSON Lines file
    #[arg(
        long,
        value_name = "SET|FILE",
        default_value = "questions",
        conflicts_with = "synthetic"
    )]
    pub prompts: String,
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
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration, conflicts_with = "count")]
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
#[command(after_help = "\
Examples:
  vastrelay watch
  vastrelay watch --url http://relay.example:7411

Press q, Esc or Ctrl-C to quit.")]
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
    /// Show the log-probability of each token of a text
    #[command(after_help = "\
Examples:
  vastrelay text score \"The last boat back leaves at 18:00.\"
  vastrelay text score --json < letter.txt")]
    Score(TextOptions),
}

#[derive(Args)]
pub struct TextOptions {
    /// The text; read from standard input if omitted
    #[arg(value_name = "TEXT")]
    pub text: Option<String>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct DecodeOptions {
    /// Token ids
    #[arg(value_name = "ID", required = true)]
    pub ids: Vec<u32>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print JSON
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
        Err("write an origin as https://desk.example, without a path".into())
    }
}

fn named_folder(text: &str) -> Result<(String, PathBuf), String> {
    let (name, path) = text
        .split_once('=')
        .ok_or("write NAME=PATH, such as desk=./pierdesk-1")?;
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
