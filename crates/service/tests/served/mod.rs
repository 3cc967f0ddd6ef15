//! The demo model, served with another engine than its own.

use std::path::Path;
use std::sync::Arc;
use vastrelay_service::server::{ServeOptions, Server};
use vastrelay_service::{Loader, Reach, ServiceState, StateOptions};
use vastrelay_serving::{DeviceMemory, Generate, Precision, Replica, ReplicaSettings};
use vastrelay_store::{Retention, Store};

/// Serves the demo model on a free port of this machine, with an engine that is made from its replica; returns the address and the
/// service's data.
pub fn serve(engine: impl FnOnce(&Replica) -> Arc<dyn Generate>) -> (String, tempfile::TempDir) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1");
    let settings = ReplicaSettings {
        width: 4,
        step_budget: 64,
        context: Some(256),
        queue_depth: 4_096,
        prefill_chunk: None,
        isa: vastrelay_kernels::Isa::detect(),
        cores: 1,
        split: 1,
        memory_share: 0.5,
        pages: None,
        device: DeviceMemory::new(1 << 30),
        weights: Precision::AsStored,
        kv: None,
    };
    let mut replica = Replica::load("pierdesk", &folder, &settings).unwrap();
    replica.generate = engine(&replica);
    let data = tempfile::tempdir().unwrap();
    let store = Store::open(data.path(), Retention::default()).unwrap();
    let server = Server::bind("127.0.0.1:0".parse().unwrap(), &ServeOptions::default()).unwrap();
    let (url, address) = (server.url(), server.address());
    std::thread::spawn(move || {
        let loader = Loader {
            settings,
            data: "".into(),
            unpack_demo: |_| Err("there is no demo here".into()),
        };
        let reach = Reach::new(address, false, vec![], vec![]);
        let state = ServiceState::new(vec![replica], loader, store, reach, StateOptions::default());
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let local = tokio::task::LocalSet::new();
        runtime
            .block_on(local.run_until(server.run(actix_web::web::Data::new(state), || ())))
            .unwrap();
    });
    (url, data)
}
