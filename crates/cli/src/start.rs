//! `vastrelay start`.

mod wanted;

use crate::args::start::{LogForm, StartOptions};
use crate::cpu::{data_folder, file as cpu_file};
use crate::demo;
use crate::failure::Failure;
use crate::machine::{available_memory, device_memory, machine_cores};
use crate::memory;
use crate::output::device_name;
use actix_web::web;
use std::io::{IsTerminal, Write};
use tokio::runtime::Runtime;
use tracing_subscriber::EnvFilter;
use vastrelay_fleet::Settings;
use vastrelay_planner::amounts::{bytes, counted, grouped};
use vastrelay_service::deploy::Order;
use vastrelay_service::endpoint::Endpoint;
use vastrelay_service::{Loader, Reach, ServeOptions, Server, ServiceState, StateOptions, TemplateProgram};
use vastrelay_serving::{Cores, Device, Devices, Models, Precisions, Replica};
use vastrelay_store::{Retention, Store};
use wanted::Wanted;

/// Runs the service until it is told to stop.
pub fn run(runtime: &Runtime, options: &StartOptions) -> Result<(), Failure> {
    start_log(options.log);
    let data = match &options.data {
        Some(data) => data.clone(),
        None => data_folder()?,
    };
    let serve = ServeOptions {
        tls: options.tls_cert.clone().zip(options.tls_key.clone()),
        summary: Some(options.summary).filter(|every| !every.is_zero()),
    };
    let retention = Retention {
        age: options.records_age,
        bytes: options.records_size.as_u64(),
    };
    let (defaults, isa) = (options.defaults()?, options.isa()?);
    let wanted = wanted::orders(options, &data)?;
    // Taken before anything is loaded, so that a taken address fails at once.
    let server = Server::bind(options.listen, &serve).map_err(Failure::failed)?;
    let store = Store::open(&data, retention).map_err(Failure::failed)?;
    server.check_keys(&store).map_err(Failure::failed)?;
    let part = options.cpu()?;
    let memory = part.memory.map_or(usize::MAX, |memory| memory.as_u64() as usize);
    let (memory, cores) = (
        memory.min(device_memory()),
        part.cores.map_or(machine_cores(), Cores::part),
    );
    say(&format!(
        "Vast Relay {} on a machine with {} and {}",
        env!("CARGO_PKG_VERSION"),
        counted(cores.most, "core"),
        bytes(memory)
    ));
    let (hosts, origins) = (options.hosts.clone(), options.origins.clone());
    let reach = Reach::new(server.address(), options.require_key, hosts, origins);
    if server.is_open_to_eavesdroppers() {
        tracing::warn!("keys, prompts and answers are sent unencrypted; use --tls-cert and --tls-key");
    }
    let wants_key = if reach.wants_key { "  key required" } else { "" };
    let loader = Loader {
        defaults,
        devices: Devices::new(Device::cpu(memory, available_memory), cores),
        isa,
        cpu_profile: cpu_file().unwrap_or_default(),
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
    let names = deploy(wanted, &state)?;
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

/// Deploys everything that is wanted, and says what it is.
fn deploy(wanted: Vec<Wanted>, state: &ServiceState) -> Result<Vec<String>, Failure> {
    let mut names = Vec::new();
    for one in wanted {
        let deployed = state.loader.deploy(&state.endpoints, &state.records, &one.order);
        let endpoint = deployed.map_err(|error| one.failure(error))?;
        describe(&endpoint, &one.order, &state.loader.defaults);
        names.push(one.order.name);
    }
    Ok(names)
}

fn describe(endpoint: &Endpoint, order: &Order, defaults: &Settings) {
    let description = &endpoint.model.description;
    let Precisions { weights, kv } = endpoint.precisions;
    let settings = order.settings.clone().or(defaults);
    for placed in endpoint.replicas() {
        let replica = &placed.replica;
        say(&format!(
            "\n{} (release {})  {} parameters, {} layers, context {} tokens, weights {weights}\n  from {}\n  on {}",
            endpoint.name,
            endpoint.release,
            grouped(description.parameters()),
            description.layers,
            grouped(replica.memory.context),
            order.model.display(),
            place(replica)
        ));
        memory::lines(&replica.memory, kv, replica.device.is_simulated())
            .iter()
            .for_each(|line| say(&format!("  {line}")));
        if let Some(typical) = settings.typical {
            let step_budget = replica.generate.limits().step_budget;
            say(&format!(
                "  {} typical sequences of {} + {} tokens fit",
                grouped(replica.memory.sequences_of(typical.tokens(), step_budget)),
                grouped(typical.prompt),
                grouped(typical.output)
            ));
        }
    }
}

/// Says where a replica runs.
fn place(replica: &Replica) -> String {
    let (device, split) = (&replica.device, replica.split);
    if device.is_simulated() {
        let numbers: Vec<String> = replica
            .held
            .places()
            .iter()
            .map(|place| (place + 1).to_string())
            .collect();
        return format!(
            "{split} × {}, {} {} of {}",
            device_name(device.name(), true),
            if split == 1 { "number" } else { "numbers" },
            numbers.join(", "),
            device.count()
        );
    }
    let shards = if split > 1 {
        format!(" in {split} shards")
    } else {
        String::new()
    };
    format!(
        "cpu, {}{shards}, {} kernels",
        counted(replica.cores, "core"),
        replica.instructions
    )
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
