//! `vastrelay start`.

mod requested;

use crate::args::start::{LogForm, StartOptions};
use crate::console::console_link;
use crate::cpu::{data_folder, file as cpu_file};
use crate::demo;
use crate::endpoint::deploy::calls;
use crate::failure::Failure;
use crate::machine::{available_memory, device_memory, machine_cores};
use crate::memory;
use crate::output::{cores_name, device_name};
use actix_web::web;
use futures_util::future::join_all;
use requested::RequestedEndpoint;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::runtime::Runtime;
use tokio::sync::oneshot;
use tracing_subscriber::EnvFilter;
use vastrelay_control::deployments::request::DeployRequest;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::{Loader, Workers};
use vastrelay_files::Roots;
use vastrelay_fleet::State;
use vastrelay_planner::amounts::{bytes, count_of, grouped};
use vastrelay_service::access::operator::RuntimePlaces;
use vastrelay_service::{Reach, ServeOptions, Server, ServiceState, StateOptions};
use vastrelay_serving::process::Program;
use vastrelay_serving::{Cores, Device, Devices, Models, Plan, Precisions};
use vastrelay_store::{Retention, Store};

/// How long an endpoint that is named before another one has the first choice of its place: a conversion takes longer.
const FIRST_CHOICE: Duration = Duration::from_millis(500);

/// Runs the service until a signal stops it.
pub fn run(runtime: &Runtime, options: &StartOptions) -> Result<(), Failure> {
    start_log(options.log);
    let data = match &options.data {
        Some(data) => data.clone(),
        None => data_folder()?,
    };
    let serve = ServeOptions {
        tls: options.tls_cert.clone().zip(options.tls_key.clone()),
        summary: Some(options.summary).filter(|every| !every.is_zero()),
        tell: options.tell.clone(),
    };
    let retention = Retention {
        age: options.records_age,
        bytes: options.records_size.as_u64(),
        run_bytes: options.runs_size.as_u64(),
    };
    let (defaults, isa) = (options.defaults()?, options.isa()?);
    let mut requested = requested::orders(options, &data)?;
    // Taken before anything is loaded, so that a taken address fails at once.
    let mut server = Server::bind(options.listen, &serve).map_err(Failure::failed)?;
    let store = Store::open(&data, retention).map_err(Failure::failed)?;
    let places = RuntimePlaces::of_this_user(data_folder().ok());
    server.open_to_operator(&data, &places).map_err(Failure::failed)?;
    server.check_keys(&store).map_err(Failure::failed)?;
    requested::add_kept(&store, &mut requested)?;
    let part = options.cpu()?;
    let memory = part.memory.map_or(usize::MAX, |memory| memory.as_u64() as usize);
    let reserve = part.reserve.map(|reserve| reserve.as_u64() as usize);
    let (memory, cores) = (
        memory.min(device_memory()),
        part.cores.map_or(machine_cores(), Cores::part),
    );
    say(&format!(
        "Vast Relay {} on a machine with {} and {}",
        env!("CARGO_PKG_VERSION"),
        count_of(cores.most, "core"),
        bytes(memory)
    ));
    let (hosts, origins) = (options.hosts.clone(), options.origins.clone());
    let reach = Reach::new(server.address(), options.require_key, hosts, origins);
    if server.is_open_to_eavesdroppers() {
        tracing::warn!("keys, prompts and answers are sent unencrypted; use --tls-cert and --tls-key");
    }
    let wants_key = if reach.wants_key { "  key required" } else { "" };
    let roots = roots(&data, &options.roots)?;
    let workers = Workers::new(own_program("worker"), &data, options.hang_after, options.workers_stay)
        .map_err(Failure::failed)?;
    let turns = workers.folder().to_owned();
    let loader = Loader {
        defaults,
        devices: Devices::new(Device::cpu_with(memory, reserve, cores, available_memory), turns),
        isa,
        cpu_profile: cpu_file().unwrap_or_default(),
        models: Models::default(),
        roots,
        data,
        unpack_demo: demo::unpack,
        workers: Some(Arc::new(workers)),
        builds: None,
    };
    let state_options = StateOptions {
        keeps_texts: options.record_texts,
        shares_cache: options.share_cache,
        templates: Some(own_program("render-templates")),
        converter: Some((own_program("convert"), available_memory)),
    };
    let state = ServiceState::new(loader, store, reach, state_options).map_err(Failure::failed)?;
    let state = web::Data::new(state);
    let (url, beginning) = (server.url(), state.clone());
    let outcome: Arc<Mutex<Option<Failure>>> = Arc::default();
    let failed = outcome.clone();
    let handle = runtime.handle().clone();
    state.control.find_workers().map_err(Failure::failed)?;
    // Models load while the service answers already.
    let begin = move || {
        let thread = std::thread::Builder::new().name("start".into());
        let begun = thread.spawn(move || match handle.block_on(deploy(&requested, &beginning)) {
            Ok(names) => {
                say(&format!("\nready: {url}  endpoints: {names}{wants_key}"));
                how_to_call(&url, &beginning).iter().for_each(|line| say(line));
                say_console(&url, &beginning);
            }
            Err(failure) => {
                *failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(failure);
                beginning.service_run.stop();
            }
        });
        begun.map_or_else(|error| tracing::error!(%error, "models cannot be loaded"), drop);
    };
    let shared = state.clone();
    let served = runtime.block_on(async { tokio::task::LocalSet::new().run_until(server.run(state, begin)).await });
    shared.end_workers();
    served.map_err(Failure::failed)?;
    let failure = outcome.lock().unwrap_or_else(PoisonError::into_inner).take();
    failure.map_or(Ok(()), Err)
}

/// Opens the folders beneath which callers over the network may name files.
fn roots(data: &Path, named: &[PathBuf]) -> Result<Roots, Failure> {
    let failed = |error: std::io::Error| Failure::failed(format!("--root: {}", vastrelay_files::reason(&error)));
    let models = data.join("models");
    std::fs::create_dir_all(&models)
        .map_err(|error| Failure::failed(format!("{}: {}", models.display(), vastrelay_files::reason(&error))))?;
    let roots = Roots::open(&[&[models][..], named].concat()).map_err(failed)?;
    let data = data.canonicalize().map_err(failed)?;
    // The database, secrets and sockets must not be readable through the service.
    match roots.folders()[1..]
        .iter()
        .find(|root| data.starts_with(root) || root.starts_with(&data))
    {
        Some(root) => Err(Failure::failed(format!(
            "--root {} and the data folder {} must not contain each other; name a folder that contains only models",
            root.display(),
            data.display()
        ))),
        None => Ok(roots),
    }
}

/// Returns the running program itself, also when its file has been replaced since, for a hidden command.
fn own_program(command: &str) -> Program {
    Program {
        path: "/proc/self/exe".into(),
        words: vec![command.into()],
    }
}

/// Deploys everything that is wanted, says what it is, and returns the names of what takes requests then. What fails is said, and leaves
/// the others as they are.
///
/// # Errors
/// When something is named and nothing can be served.
async fn deploy(requested: &[RequestedEndpoint], state: &ServiceState) -> Result<String, Failure> {
    let (mut beginning, mut before) = (Vec::new(), None);
    for one in requested {
        let (has_place, next) = oneshot::channel();
        beginning.push(begin(one, state, before.replace(next), has_place));
    }
    let begun = join_all(beginning).await;
    let (mut names, mut failures) = (Vec::new(), Vec::new());
    for (one, begun) in requested.iter().zip(begun) {
        match begun {
            Ok(true) => names.push(one.request.name.clone()),
            Ok(false) => {}
            Err(why) => failures.push(one.failure(&why)),
        }
    }
    if requested.is_empty() {
        return Ok("none yet; deploy one with `vastrelay endpoint deploy` or in the console".into());
    }
    let is_named = requested.iter().any(|one| !one.is_stored);
    if names.is_empty() && is_named && !failures.is_empty() && !serves(state) {
        return Err(failures.remove(0));
    }
    for failure in failures {
        let _ = failure.report();
    }
    if names.is_empty() {
        return Ok("none of those that it was started with".into());
    }
    Ok(names.join(", "))
}

/// Serves one endpoint, and says what it is; returns whether it is ready, or why it has failed. The one `before` has the first choice of a place,
/// for a while.
async fn begin(
    one: &RequestedEndpoint,
    state: &ServiceState,
    before: Option<oneshot::Receiver<()>>,
    has_place: oneshot::Sender<()>,
) -> Result<bool, String> {
    let mut has_place = Some(has_place);
    let say_place = |endpoint: &Endpoint| {
        describe(endpoint, &one.request);
        // The receiver may be gone.
        let _ = has_place.take().map(|has_place| has_place.send(()));
    };
    if let Some(before) = before.filter(|_| !one.comes_back) {
        let _ = tokio::time::timeout(FIRST_CHOICE, before).await;
    }
    if !one.comes_back {
        return state.deploy(&one.request, say_place).await.map(|_| true);
    }
    match state.wait_for_start(&one.request.name, say_place).await {
        Some(State::Failed) => Err(one.why_failed(state)),
        Some(found) => Ok(matches!(found, State::Ready | State::Degraded)),
        None => Ok(false),
    }
}

/// Returns whether any endpoint takes calls.
fn serves(state: &ServiceState) -> bool {
    let served = state
        .endpoints
        .all()
        .into_iter()
        .map(|endpoint| endpoint.replicas.state());
    let resting = state.endpoints.resting().into_values().map(|resting| resting.state);
    served.chain(resting).any(State::serves)
}

fn describe(endpoint: &Endpoint, request: &DeployRequest) {
    let (description, plan) = (&endpoint.model.description, &endpoint.plan);
    let Precisions { weights, kv } = plan.precisions;
    say(&format!(
        "\n{} (release {})  {} parameters, {} layers, context {} tokens, weights {weights}\n  from {}\n  on {}",
        endpoint.name,
        endpoint.release,
        grouped(description.parameters()),
        description.layers,
        grouped(plan.memory.context),
        request.model().display(),
        place(plan)
    ));
    memory::lines(&plan.memory, kv, plan.device.is_simulated())
        .iter()
        .for_each(|line| say(&format!("  {line}")));
}

/// Says where a replica runs.
fn place(plan: &Plan) -> String {
    let (device, split) = (&plan.device, plan.assignment.split);
    if device.is_simulated() {
        let numbers: Vec<String> = plan.taken.places.iter().map(|place| (place + 1).to_string()).collect();
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
        cores_name(plan.cores.as_ref().map_or(0.0, |cores| cores.share().cores())),
        plan.instructions
    )
}

/// Says how the first endpoint that takes calls is called.
fn how_to_call(url: &str, state: &ServiceState) -> Vec<String> {
    let all = state.endpoints.all();
    let ready = all.iter().find(|endpoint| endpoint.replicas.state().serves());
    ready.map_or(Vec::new(), |endpoint| {
        calls(url, &endpoint.name, &endpoint.answer_settings.modes())
    })
}

/// Prints a link to the console, to a terminal only: in a file it would be there for others to use.
fn say_console(url: &str, state: &ServiceState) {
    if std::io::stdout().is_terminal()
        && let Ok(code) = state.console_code()
    {
        say(&format!("console: {}", console_link(url, &code)));
        say("         (the link works once, within two minutes; `vastrelay console` prints another one)");
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
