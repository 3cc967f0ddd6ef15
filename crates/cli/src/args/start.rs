//! `vastrelay start`.

use super::endpoint::named_path;
use super::listen::listen_address;
use super::precision::PrecisionOptions;
use super::time::duration;
use crate::failure::Failure;
use crate::machine::machine_cores;
use clap::{Args, ValueEnum};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;
use vastrelay_control::placement::options::USUAL_QUEUE_DEPTH;
use vastrelay_fleet::Settings;
use vastrelay_planner::{CpuProfile, Profile, Typical};
use vastrelay_serving::{CoreRequest, Isa};

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay start --demo                                  serve the demo model as `pierdesk`
  vastrelay start --model desk=./pierdesk-1 --width 32    serve a folder of safetensors as `desk`
  vastrelay start --demo --context 1024 --memory-share 0.2
  vastrelay start --model big=./my-70b --device sim-48g --split 4   on devices that are simulated
  vastrelay start --spec demo/pierdesk.toml demo/lighthouse.toml    each with its own settings
  vastrelay start --demo --listen 0.0.0.0:7411 --tls-cert relay.pem --tls-key relay.key --host relay.example

A model folder contains config.json, tokenizer.json and model.safetensors (one file, or shards with an index). A GGUF
file contains everything.")]
pub struct StartOptions {
    /// Serve the demo model `pierdesk@1` under the name `pierdesk`
    #[arg(long)]
    pub demo: bool,
    /// Serve a model folder or GGUF file under a name; repeatable
    #[arg(long = "model", value_name = "NAME=PATH", value_parser = named_path)]
    pub models: Vec<(String, PathBuf)>,
    /// Serve what TOML files describe, each under its file's name; what one leaves out is as the options below say
    #[arg(long = "spec", value_name = "FILE", num_args = 1..)]
    pub specs: Vec<PathBuf>,
    /// Folder for the database and the demo's weights [default: the platform's data directory]
    #[arg(long, value_name = "DIR")]
    pub data: Option<PathBuf>,
    /// Add a folder of models, templates and profiles that callers over the network may name, next to `models` in the data folder; repeatable
    #[arg(long = "root", value_name = "DIR")]
    pub roots: Vec<PathBuf>,
    /// Address to listen on; port 0 picks a free port
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:7411", value_parser = listen_address)]
    pub listen: SocketAddr,
    /// Maximum sequences in a batch [default: 16 on the cpu, 64 on a simulated device]
    #[arg(long, value_name = "N")]
    pub width: Option<usize>,
    /// Maximum tokens in a step, prefill and decode together [default: 320 on the cpu, 512 on a simulated device]
    #[arg(long, value_name = "TOKENS")]
    pub step_budget: Option<usize>,
    /// A typical sequence: tokens of its prompt and of its answer, for which the KV pool is sized [default: 1536+512, or the context if that is smaller]
    #[arg(long, value_name = "PROMPT+ANSWER")]
    pub typical: Option<Typical>,
    /// Maximum tokens of a sequence, prompt plus output [default: the model's own]
    #[arg(long, value_name = "TOKENS")]
    pub context: Option<usize>,
    /// Maximum requests waiting for the batch
    #[arg(long, value_name = "N", default_value_t = USUAL_QUEUE_DEPTH)]
    pub queue_depth: usize,
    /// Longest that a request waits for the batch [default: any time]
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub queue_wait: Option<Duration>,
    /// Maximum prompt tokens of one sequence in a step [default: as many as streams can bear]
    #[arg(long, value_name = "TOKENS")]
    pub prefill_chunk: Option<usize>,
    /// Maximum cores per endpoint [default: all; HTTP comes first where both want one]
    #[arg(long, value_name = "N")]
    pub cores: Option<usize>,
    /// Instruction set of the kernels: portable, avx2, avx512 or avx512-vnni [default: the best of this machine]
    #[arg(long, value_name = "NAME")]
    pub kernel: Option<String>,
    /// Devices to run on: cpu, sim-24g, sim-48g, sim-80g (simulated) or the TOML file of a profile [default: cpu]
    #[arg(long, value_name = "NAME|FILE")]
    pub device: Option<String>,
    /// Shards per endpoint, each with its own weights, KV memory and cores, or its own simulated device
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub split: usize,
    /// Fraction of a device's memory that each endpoint may use [default: of the cpu's what its profile does not reserve, or 0.4; all of a simulated device's]
    #[arg(long, value_name = "FRACTION")]
    pub memory_share: Option<f64>,
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
    #[arg(long, value_name = "TIME", default_value = "30d", value_parser = duration)]
    pub records_age: Duration,
    /// Maximum size of the database without load tests before the oldest records are deleted, texts first
    #[arg(long, value_name = "SIZE", default_value = "1GiB")]
    pub records_size: bytesize::ByteSize,
    /// Maximum size of all saved load tests before the oldest are deleted
    #[arg(long, value_name = "SIZE", default_value = "512MiB")]
    pub runs_size: bytesize::ByteSize,
    /// Record prompts and answers
    #[arg(long)]
    pub record_texts: bool,
    /// Share cached prompts between keys; by default each key has its own cache
    #[arg(long)]
    pub share_cache: bool,
    /// Longest silence of a replica with work, if that is far longer than its steps take; then a new worker replaces it
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = duration)]
    pub hang_after: Duration,
    /// How long replicas wait for the next service with the same data when this one is killed
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = duration)]
    pub workers_stay: Duration,
    /// Send each endpoint that becomes ready or fails as JSON to this address
    #[arg(long, value_name = "URL")]
    pub tell: Option<reqwest::Url>,
    /// How often to log a summary line; 0s for never
    #[arg(long, value_name = "TIME", default_value = "60s", value_parser = duration)]
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

impl StartOptions {
    /// Returns the settings of every endpoint, where its spec says nothing else.
    pub fn defaults(&self) -> Result<Settings, Failure> {
        Ok(Settings {
            weights: Some(self.precision.weights()?),
            kv: self.precision.kv.map(Into::into),
            devices: match self.profile()? {
                Some(Profile::Simulated(_)) => self.device.clone().map(|device| vec![device]),
                _ => None,
            },
            split: Some(self.split),
            cores: self.cores.map(|most| CoreRequest::Free { least: 1, most }),
            memory_share: self.memory_share,
            pages: self.pages,
            width: self.width,
            step_budget: self.step_budget,
            prefill_chunk: self.prefill_chunk,
            context: self.context,
            typical: self.typical,
            queue_depth: Some(self.queue_depth),
            queue_wait: self.queue_wait,
        })
    }

    /// Returns the part of the processor that replicas may use.
    pub fn cpu(&self) -> Result<CpuProfile, Failure> {
        match self.profile()? {
            Some(Profile::Cpu(part)) => {
                let most = machine_cores().most;
                match part.cores.filter(|cores| *cores > most) {
                    Some(cores) => Err(Failure::failed(format!(
                        "--device: the profile names {cores} cores; this machine has {most}"
                    ))),
                    None => Ok(part),
                }
            }
            _ => Ok(CpuProfile::whole()),
        }
    }

    fn profile(&self) -> Result<Option<Profile>, Failure> {
        let wanted = self.device.as_deref().filter(|wanted| *wanted != "cpu");
        let profile = wanted.map(crate::device::profile).transpose()?;
        if matches!(profile, Some(Profile::Simulated(_))) && (self.cores.is_some() || self.kernel.is_some()) {
            return Err(Failure::usage(
                "--cores and --kernel are for the cpu; leave them out with simulated devices",
            ));
        }
        Ok(profile)
    }

    /// Returns the instructions of the kernels.
    pub fn isa(&self) -> Result<Isa, Failure> {
        match &self.kernel {
            Some(name) => Isa::of(name).map_err(|error| Failure::usage(format!("--kernel: {error}"))),
            None => Ok(Isa::detect()),
        }
    }
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
