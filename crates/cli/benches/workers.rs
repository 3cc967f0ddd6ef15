//! What does a worker of its own cost? The demo's model is served in turns by a service with workers and by one that has the engine in its
//! own process, seven times each.
//!
//! Prints, for 1, 16 and 64 users, the ratio of the throughputs (aim: at least 0.9) and how much later the first token comes in the middle of
//! all answers (aim: at most 0.2 ms later with 1 and 16). `cargo bench -p vastrelay --bench workers`.

#[allow(dead_code, reason = "others use the rest")]
mod serve;

use actix_web::web;
use serde_json::Value;
use serve::Service;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_control::Loader;
use vastrelay_service::{Reach, ServeOptions, Server, ServiceState, StateOptions};
use vastrelay_serving::{CoreRequest, Cores, Device, Devices, Isa, Model, Models, Precision, Replica, ReplicaSettings};
use vastrelay_store::{Retention, Store};

const TURNS: usize = 7;
const USERS: [&str; 3] = ["1", "16", "64"];
/// The word with which this program is the service without workers.
const HERE: &str = "--serve-here";

fn main() {
    let mut words = std::env::args().skip_while(|word| word != HERE).skip(1);
    if let Some(data) = words.next() {
        return serve_here(Path::new(&data));
    }
    let folder = || tempfile::tempdir().expect("a folder");
    let apart = Service::start(folder(), &["--width", "16"]);
    let here = Service::of(folder(), |data| {
        let mut program = std::process::Command::new(std::env::current_exe().expect("it has a path"));
        program.arg(HERE).arg(data);
        program
    });
    for users in USERS {
        let mut pairs: Vec<[(f64, f64); 2]> = Vec::new();
        // The first turn warms both up.
        for _ in 0..=TURNS {
            pairs.push([sample(&here, users), sample(&apart, users)]);
        }
        pairs.remove(0);
        let ratio = spread(pairs.iter().map(|[here, apart]| apart.0 / here.0));
        let later = spread(pairs.iter().map(|[here, apart]| (apart.1 - here.1) * 1e3));
        let middle = |which: usize| spread(pairs.iter().map(|pair| pair[which].0))[1];
        println!(
            "{users:>2} users: {:.0} tokens/s in a worker, {:.0} in the service; ratio {:.3} ({:.3}..{:.3}); TTFT p50 {:+.3} ms \
             ({:+.3}..{:+.3})",
            middle(1),
            middle(0),
            ratio[1],
            ratio[0],
            ratio[2],
            later[1],
            later[0],
            later[2]
        );
    }
}

/// Returns the throughput and the median time to the first token that so many users see.
fn sample(service: &Service, users: &str) -> (f64, f64) {
    let load = service.load(&[
        "--users",
        users,
        "--duration",
        "5s",
        "--output",
        "100",
        "--force-length",
    ]);
    let output = load.wait_with_output().expect("the load test ends");
    let summary: Value = serde_json::from_slice(&output.stdout).expect("a summary");
    let number = |value: &Value| value.as_f64().expect("the summary has it");
    (number(&summary["output_rate"]), number(&summary["ttft"]["p50"]))
}

/// Returns the lowest, the middle and the highest.
fn spread(values: impl Iterator<Item = f64>) -> [f64; 3] {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    [values[0], values[values.len() / 2], values[values.len() - 1]]
}

/// Serves the demo's model with the engine in this process.
fn serve_here(data: &Path) {
    let model = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1");
    let server =
        Server::bind("127.0.0.1:0".parse().expect("an address"), &ServeOptions::default()).expect("it listens");
    let store = Store::open(data, Retention::default()).expect("a database");
    let reach = Reach::new(server.address(), false, vec![], vec![]);
    let cores = Cores::of_machine(std::thread::available_parallelism().map_or(1, usize::from));
    let loader = Loader {
        roots: Default::default(),
        defaults: Default::default(),
        devices: Devices::new(Device::cpu(16 << 30, cores, || usize::MAX), PathBuf::new()),
        isa: Isa::detect(),
        cpu_profile: PathBuf::new(),
        models: Models::default(),
        data: data.to_owned(),
        unpack_demo: |_| Err("there is no demo here".into()),
        workers: None,
        builds: None,
    };
    let device = loader.devices.all().remove(0);
    let state = ServiceState::new(loader, store, reach, StateOptions::default()).expect("a service");
    let (text, replica) = loaded(&model, device);
    state.serve("pierdesk", text, replica);
    let state = web::Data::new(state);
    let url = server.url();
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let local = tokio::task::LocalSet::new();
    let served = runtime.block_on(local.run_until(server.run(state, || println!("ready: {url} "))));
    served.expect("it serves");
}

/// Loads the demo's model as a service does by itself, but for its width.
fn loaded(folder: &Path, device: Device) -> (Arc<Model>, Replica) {
    let usual = device.usual();
    let cores = device.cores().expect("the cpu has cores");
    let settings = ReplicaSettings {
        width: 16,
        step_budget: usual.step_budget,
        context: None,
        queue_depth: 400,
        queue_wait: None,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: CoreRequest::Free {
            least: 1,
            most: cores.usual(1),
        },
        split: 1,
        memory_share: usual.memory_share,
        pages: None,
        typical: None,
        device,
        weights: Precision::AsStored,
        kv: None,
    };
    let model = Arc::new(Model::open(folder).expect("the demo's model"));
    let replica = Replica::load(&model, folder, &settings).expect("it fits");
    (model, replica)
}
