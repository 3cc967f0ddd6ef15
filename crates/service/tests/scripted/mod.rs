//! A service on an engine that says what somebody else wants.

#[path = "../served/mod.rs"]
mod served;

use served::serve;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex};
use std::time::Instant;
use vastrelay_engine::engine::frame::{EngineCommand, EngineStatus};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::{Edge, GenerationRequest, Limits, PoolLimits, Refusal, RequestStream};
use vastrelay_service::access::keys::make_key;
use vastrelay_serving::Generate;
use vastrelay_store::Store;
use vastrelay_wire::keys::{KeyScope, NewKey};

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

    fn given(&self) -> Option<usize> {
        self.edge.given()
    }

    fn when_room(&self, tell: Box<dyn Fn() + Send + Sync>) {
        self.edge.when_room(tell);
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
    /// The commands to the engine.
    pub orders: Mutex<Receiver<EngineCommand>>,
    /// A key that may manage it.
    #[allow(dead_code, reason = "not every test manages")]
    pub key: String,
    _data: tempfile::TempDir,
}

impl Service {
    /// Starts it on a free port.
    pub fn start() -> Service {
        let (sender, orders) = channel();
        let edge = Arc::new(Edge::new(Instant::now(), move |order| sender.send(order).is_ok()));
        let callers = edge.clone();
        let (url, data) = serve(move |_, _| {
            Arc::new(Scripted {
                edge: callers,
                limits: Limits {
                    width: 4,
                    step_budget: 64,
                    context: 256,
                    queue_depth: 4_096,
                    queue_wait: None,
                    pools: vec![PoolLimits {
                        pages: 64,
                        window: None,
                    }],
                    prefill_chunk: None,
                },
            })
        });
        let store = Store::open_beside(data.path()).unwrap();
        let ops = NewKey {
            name: "ops".into(),
            scope: KeyScope::Manage,
            expires_in: None,
            per_minute: None,
            at_once: None,
            weight: None,
            endpoints: Vec::new(),
        };
        Service {
            key: make_key(&store, ops).unwrap().key,
            url,
            edge,
            orders: Mutex::new(orders),
            _data: data,
        }
    }
}
