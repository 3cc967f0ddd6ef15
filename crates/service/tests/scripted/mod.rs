//! A service on an engine that says what somebody else wants.

use std::path::Path;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex};
use std::time::Instant;
use vastrelay_engine::engine::frame::{EngineStatus, Order};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::{Edge, GenerationRequest, Limits, PoolLimits, Refusal, RequestStream};
use vastrelay_service::server::{ServeOptions, Server};
use vastrelay_service::{Loader, Reach, ServiceState, StateOptions};
use vastrelay_serving::{DeviceMemory, Generate, Precision, Replica, ReplicaSettings};
use vastrelay_store::{Retention, Store};

type BoxFuture<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

/// An engine of which only the callers' side is there.
struct Scripted {
    edge: Arc<Edge>,
    limits: Limits,
}

impl Generate for Scripted {
    fn submit(&self, requests: Vec<GenerationRequest>) -> BoxFuture<'_, Result<RequestStream, Refusal>> {
        Box::pin(self.edge.submit(requests))
    }

    fn status(&self) -> EngineStatus {
        self.edge.status()
    }

    fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        self.edge.steps_after(number, most)
    }

    fn limits(&self) -> &Limits {
        &self.limits
    }
}

/// A service on that engine.
pub struct Service {
    /// Its address.
    pub url: String,
    /// The engine's callers' side.
    pub edge: Arc<Edge>,
    /// What the engine is asked.
    pub orders: Mutex<Receiver<Order>>,
    _data: tempfile::TempDir,
}

impl Service {
    /// Starts it on a free port.
    pub fn start() -> Service {
        let (sender, orders) = channel();
        let edge = Arc::new(Edge::new(Instant::now(), move |order| sender.send(order).is_ok()));
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
        replica.generate = Arc::new(Scripted {
            edge: edge.clone(),
            limits: Limits {
                width: 4,
                step_budget: 64,
                context: 256,
                queue_depth: 4_096,
                pools: vec![PoolLimits {
                    pages: 64,
                    window: None,
                }],
                prefill_chunk: None,
            },
        });
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
        Service {
            url,
            edge,
            orders: Mutex::new(orders),
            _data: data,
        }
    }
}
