//! `vastrelay start`.

use crate::args::start::{LogForm, StartOptions};
use crate::demo;
use crate::failure::Failure;
use crate::machine::machine_cores;
use crate::memory;
use crate::output::device_name;
use actix_web::web;
use std::io::{IsTerminal, Write};
use std::path::Path;
use tokio::runtime::Runtime;
use tracing_subscriber::EnvFilter;
use vastrelay_planner::amounts::grouped;
use vastrelay_service::deploy::DeployError;
use vastrelay_service::endpoint::Endpoint;
use vastrelay_service::{Loader, Reach, ServeOptions, Server, ServiceState, StateOptions, TemplateProgram};
use vastrelay_serving::{Models, Precisions, ReplicaSettings};
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
    let settings = options.settings()?;
    // Taken before anything is loaded, so that a taken address fails at once.
    let server = Server::bind(options.listen, &serve).map_err(Failure::failed)?;
    let store = Store::open(&data, retention).map_err(Failure::failed)?;
    server.check_keys(&store).map_err(Failure::failed)?;
    say(&format!(
        "Vast Relay {} on {}",
        env!("CARGO_PKG_VERSION"),
        place(&settings)
    ));
    let (hosts, origins) = (options.hosts.clone(), options.origins.clone());
    let reach = Reach::new(server.address(), options.require_key, hosts, origins);
    if server.is_open_to_eavesdroppers() {
        tracing::warn!("keys, prompts and answers are sent unencrypted; use --tls-cert and --tls-key");
    }
    let wants_key = if reach.wants_key { "  key required" } else { "" };
    let loader = Loader {
        settings,
        models: Models::default(),
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
    let state = web::Data::new(ServiceState::new(loader, store, reach, state_options));
    let names = deploy(options, &state)?;
    let greeting = format!(
        "\nready: {}  endpoints: {}{wants_key}",
        server.url(),
        if names.is_empty() {
            "none yet; deploy one with `vastrelay endpoint deploy` or in the console".into()
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

/// Says what endpoints run on.
fn place(settings: &ReplicaSettings) -> String {
    let device = &settings.device;
    if device.is_simulated() {
        let (name, count) = (device_name(device.name(), true), device.count());
        return format!("{name}: each endpoint uses {} of {count} devices", settings.split);
    }
    format!(
        "cpu: each endpoint uses {} of {} cores",
        settings.cores,
        machine_cores()
    )
}

/// Deploys every model that was named, and says what it is.
fn deploy(options: &StartOptions, state: &ServiceState) -> Result<Vec<String>, Failure> {
    let mut wanted = options.models.clone();
    if options.demo {
        wanted.push((
            "pierdesk".into(),
            demo::unpack(&state.loader.data).map_err(Failure::failed)?,
        ));
    }
    for (name, folder) in &wanted {
        let deployed = state.loader.deploy(&state.endpoints, &state.records, name, folder);
        let endpoint = deployed.map_err(|error| match error {
            DeployError::Taken(name) => Failure::usage(format!("two models are named `{name}`; rename one")),
            other => Failure::failed(other),
        })?;
        describe(&endpoint, folder);
    }
    Ok(wanted.into_iter().map(|(name, _)| name).collect())
}

fn describe(endpoint: &Endpoint, folder: &Path) {
    let description = &endpoint.model.description;
    let Precisions { weights, kv } = endpoint.precisions;
    for placed in endpoint.replicas() {
        let replica = &placed.replica;
        let place = match replica.split {
            split if replica.device.is_simulated() => {
                format!("on {split} × {}", device_name(replica.device.name(), true))
            }
            1 => format!("{} kernels", replica.instructions),
            split => format!("{split} shards, {} kernels", replica.instructions),
        };
        say(&format!(
            "\n{} (release {})  {} parameters, {} layers, context {} tokens, weights {weights}, {place}\n  from {}",
            endpoint.name,
            endpoint.release,
            grouped(description.parameters()),
            description.layers,
            grouped(replica.memory.context),
            folder.display(),
        ));
        memory::lines(&replica.memory, kv)
            .iter()
            .for_each(|line| say(&format!("  {line}")));
    }
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
