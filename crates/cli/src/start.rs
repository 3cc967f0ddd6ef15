//! `vastrelay start`.

use crate::args::{LogForm, StartOptions};
use crate::demo;
use crate::failure::Failure;
use actix_web::web;
use nix::sys::resource::{Resource, getrlimit};
use std::io::{IsTerminal, Write};
use std::path::Path;
use std::thread::available_parallelism;
use sysinfo::{MemoryRefreshKind, RefreshKind, System};
use tokio::runtime::Runtime;
use tracing_subscriber::EnvFilter;
use vastrelay_service::{Loader, Reach, ServeOptions, Server, ServiceState, StateOptions, TemplateProgram};
use vastrelay_serving::memory::grouped;
use vastrelay_serving::{DeviceMemory, Isa, Replica, ReplicaSettings};
use vastrelay_store::{Retention, Store};

/// Runs the service until it is told to stop.
pub fn run(runtime: &Runtime, options: &StartOptions) -> Result<(), Failure> {
    start_log(options.log);
    let data = match &options.data {
        Some(data) => data.clone(),
        None => dirs::data_dir()
            .map(|dir| dir.join("vastrelay"))
            .ok_or_else(|| Failure::usage("this account has no data directory; choose one with --data DIR"))?,
    };
    let serve = ServeOptions {
        tls: options.tls_cert.clone().zip(options.tls_key.clone()),
        summary: Some(options.summary).filter(|every| !every.is_zero()),
    };
    let retention = Retention {
        age: options.records_age,
        bytes: options.records_size.as_u64(),
    };
    let settings = settings(options)?;
    // Taken before the models are loaded, so that a taken address fails at once.
    let server = Server::bind(options.listen, &serve).map_err(Failure::failed)?;
    let store = Store::open(&data, retention).map_err(Failure::failed)?;
    server.check_keys(&store).map_err(Failure::failed)?;
    say(&format!(
        "Vast Relay {} on cpu: each model uses {} of {} cores",
        env!("CARGO_PKG_VERSION"),
        settings.cores,
        machine_cores()
    ));
    let replicas = load(options, &settings, &data)?;
    let names: Vec<String> = replicas.iter().map(|replica| replica.name.clone()).collect();
    let (hosts, origins) = (options.hosts.clone(), options.origins.clone());
    let reach = Reach::new(server.address(), options.require_key, hosts, origins);
    if server.is_open_to_eavesdroppers() {
        tracing::warn!("keys, prompts and answers are sent unencrypted; use --tls-cert and --tls-key");
    }
    let wants_key = if reach.wants_key { "  key required" } else { "" };
    let loader = Loader {
        settings,
        data,
        unpack_demo: demo::unpack,
    };
    let state_options = StateOptions {
        keeps_texts: options.record_texts,
        shares_cache: options.share_cache,
        // The running program itself, also when its file has been replaced since.
        templates: Some(TemplateProgram {
            path: "/proc/self/exe".into(),
            words: vec!["render-templates".into()],
        }),
    };
    let state = ServiceState::new(replicas, loader, store, reach, state_options);
    let state = web::Data::new(state);
    let greeting = format!(
        "\nready: {}  models: {}{wants_key}",
        server.url(),
        if names.is_empty() {
            "none yet; start one with `vastrelay model start` or in the console".into()
        } else {
            names.join(", ")
        }
    );
    runtime
        .block_on(async {
            tokio::task::LocalSet::new()
                .run_until(server.run(state, || say(&greeting)))
                .await
        })
        .map_err(Failure::failed)
}

fn load(options: &StartOptions, settings: &ReplicaSettings, data: &Path) -> Result<Vec<Replica>, Failure> {
    let mut models = options.models.clone();
    if options.demo {
        models.push(("pierdesk".into(), demo::unpack(data).map_err(Failure::failed)?));
    }
    let mut replicas: Vec<Replica> = Vec::new();
    for (name, folder) in &models {
        if replicas.iter().any(|replica| replica.name == *name) {
            return Err(Failure::usage(format!("two models are named `{name}`; rename one")));
        }
        let replica = Replica::load(name, folder, settings)
            .map_err(|error| Failure::failed(format!("`{name}` cannot be served: {error}")))?;
        let description = &replica.description;
        say(&format!(
            "\n{name}  {} parameters, {} layers, context {} tokens, weights {}, {}{} kernels\n  from {}",
            grouped(description.parameters()),
            description.layers,
            grouped(replica.memory.context),
            replica.weights,
            if replica.split > 1 {
                format!("{} shards, ", replica.split)
            } else {
                String::new()
            },
            replica.instructions,
            folder.display(),
        ));
        replica.memory.lines().iter().for_each(|line| say(&format!("  {line}")));
        replicas.push(replica);
    }
    Ok(replicas)
}

fn settings(options: &StartOptions) -> Result<ReplicaSettings, Failure> {
    let most = machine_cores();
    let usual = most.saturating_sub(1).max(options.split.min(most)).max(1);
    let cores = options.cores.unwrap_or(usual);
    if cores > most {
        return Err(Failure::usage(format!(
            "--cores {cores} is more than the {most} cores of this machine"
        )));
    }
    let isa = match &options.kernel {
        Some(name) => Isa::of(name).map_err(|error| Failure::usage(format!("--kernel: {error}")))?,
        None => Isa::detect(),
    };
    Ok(ReplicaSettings {
        width: options.width,
        step_budget: options.step_budget,
        context: options.context,
        queue_depth: options.queue_depth,
        prefill_chunk: options.prefill_chunk,
        isa,
        cores,
        split: options.split,
        memory_share: options.memory_share,
        pages: options.pages,
        device: DeviceMemory::new(device_memory()),
        weights: options.precision.weights()?,
        kv: options.precision.kv.map(Into::into),
    })
}

/// Returns the memory that this process may use, in bytes: the machine's, the container's, or most of its address space where
/// that is limited.
pub fn device_memory() -> usize {
    let memory = RefreshKind::nothing().with_memory(MemoryRefreshKind::nothing().with_ram());
    let system = System::new_with_specifics(memory);
    let container = system.cgroup_limits().map_or(u64::MAX, |limits| limits.total_memory);
    let space = getrlimit(Resource::RLIMIT_AS).map_or(u64::MAX, |(soft, _)| soft);
    system.total_memory().min(container).min(space / 4 * 3) as usize
}

fn machine_cores() -> usize {
    available_parallelism().map_or(1, usize::from)
}

fn start_log(form: LogForm) {
    let usual = "info,actix_server=warn,rusqlite_migration=warn";
    let filter = EnvFilter::try_from_env("VASTRELAY_LOG").unwrap_or_else(|_| EnvFilter::new(usual));
    let log = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_target(false);
    match form {
        LogForm::Json => log.json().flatten_event(true).init(),
        LogForm::Text => log.with_ansi(std::io::stderr().is_terminal()).init(),
    }
}

/// Prints a line at once, also into a pipe. The service outlives a reader who has gone.
fn say(line: &str) {
    let mut out = std::io::stdout().lock();
    let _ = writeln!(out, "{line}").and_then(|()| out.flush());
}
