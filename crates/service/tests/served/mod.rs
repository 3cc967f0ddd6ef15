//! The demo model, served with another engine than its own.

#[path = "../demo/mod.rs"]
pub mod demo;

use std::sync::Arc;
use vastrelay_control::Loader;
use vastrelay_fleet::Settings;
use vastrelay_service::server::{ServeOptions, Server};
use vastrelay_service::{Reach, ServiceState, StateOptions};
use vastrelay_serving::{Devices, Generate, Model, Models, Replica, ReplicaSettings};
use vastrelay_store::{Retention, Store};
use vastrelay_weights::ModelFiles;

/// Serves the demo model on a free port of this machine, with an engine that is made from its replica; returns the address and the
/// service's data.
pub fn serve(engine: impl FnOnce(&Model, &Replica) -> Arc<dyn Generate>) -> (String, tempfile::TempDir) {
    let (folder, settings) = (demo::folder(), demo::settings());
    let models = Models::default();
    let model = models.open(&ModelFiles::open(&folder).unwrap()).unwrap();
    let mut replica = Replica::load(&model, &folder, &settings).unwrap();
    replica.generate = engine(&model, &replica);
    let data = tempfile::tempdir().unwrap();
    let store = Store::open(data.path(), Retention::default()).unwrap();
    let server = Server::bind("127.0.0.1:0".parse().unwrap(), &ServeOptions::default()).unwrap();
    let (url, address) = (server.url(), server.address());
    std::thread::spawn(move || {
        let loader = Loader {
            defaults: defaults(&settings),
            devices: Devices::new(settings.device.clone(), "".into()),
            isa: settings.isa,
            cpu_profile: "".into(),
            models,
            roots: Default::default(),
            data: "".into(),
            unpack_demo: |_| Err("there is no demo here".into()),
            workers: None,
            builds: None,
        };
        let reach = Reach::new(address, false, vec![], vec![]);
        let state = ServiceState::new(loader, store, reach, StateOptions::default()).unwrap();
        state.serve("pierdesk", model, replica);
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let local = tokio::task::LocalSet::new();
        runtime
            .block_on(local.run_until(server.run(actix_web::web::Data::new(state), || ())))
            .unwrap();
    });
    (url, data)
}

/// Returns the same settings for whatever else is deployed.
fn defaults(settings: &ReplicaSettings) -> Settings {
    Settings {
        width: Some(settings.width),
        step_budget: Some(settings.step_budget),
        context: settings.context,
        queue_depth: Some(settings.queue_depth),
        cores: Some(settings.cores),
        memory_share: Some(settings.memory_share),
        ..Settings::default()
    }
}
