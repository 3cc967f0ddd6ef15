//! What a release counts, over the lives of its replicas.

mod demo;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_engine::engine::frame::EngineStatus;
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::{GenerationRequest, Limits, Refusal, RequestStream};
use vastrelay_serving::{Generate, Model, Replica, ReplicaSettings};

type BoxFuture<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

/// An engine that has produced as many tokens as the test says, or has failed.
struct Said {
    limits: Limits,
    tokens: Arc<AtomicU64>,
    failure: Option<String>,
}

impl Generate for Said {
    fn submit(&self, _: Vec<GenerationRequest>) -> BoxFuture<'_, Result<RequestStream, Refusal>> {
        Box::pin(async { Err(Refusal::Stopped("nothing is asked here".into())) })
    }

    fn given(&self) -> Option<usize> {
        self.failure.is_none().then_some(0)
    }

    fn when_room(&self, _: Box<dyn Fn() + Send + Sync>) {}

    fn status(&self) -> EngineStatus {
        EngineStatus {
            output_tokens: self.tokens.load(Ordering::Relaxed),
            failure: self.failure.clone(),
            ..EngineStatus::default()
        }
    }

    fn steps_after(&self, _: u64, _: usize) -> Vec<StepRecord> {
        Vec::new()
    }

    fn limits(&self) -> &Limits {
        &self.limits
    }
}

struct World {
    model: Arc<Model>,
    settings: ReplicaSettings,
}

impl World {
    fn new() -> World {
        World {
            model: Arc::new(Model::open(&demo::folder()).unwrap()),
            settings: demo::settings(),
        }
    }

    /// Returns a replica, and its count of tokens.
    fn replica(&self, number: u32, incarnation: u64, failure: Option<&str>) -> (Replica, Arc<AtomicU64>) {
        let replica = Replica::load(&self.model, &demo::folder(), &self.settings).unwrap();
        let tokens = Arc::new(AtomicU64::new(0));
        let generate = Said {
            limits: replica.generate.limits().clone(),
            tokens: tokens.clone(),
            failure: failure.map(str::to_owned),
        };
        let replica = Replica {
            number,
            incarnation,
            generate: Arc::new(generate),
            ..replica
        };
        (replica, tokens)
    }
}

#[test]
fn totals_never_run_backwards_when_a_replica_begins_another_life() {
    let world = World::new();
    let (first, tokens) = world.replica(1, 1, None);
    let endpoint = Endpoint::new("pierdesk", 1, world.model.clone(), first.plan.clone());
    endpoint.replicas.place(first);
    tokens.store(1_000, Ordering::Relaxed);
    assert_eq!(endpoint.replicas.totals().output_tokens, 1_000);
    let (second, other) = world.replica(2, 2, None);
    endpoint.replicas.place(second);
    other.store(50, Ordering::Relaxed);
    assert_eq!(endpoint.replicas.totals().output_tokens, 1_050);
    let (again, tokens) = world.replica(1, 3, None);
    endpoint.replicas.place(again);
    assert_eq!(
        endpoint.replicas.totals().output_tokens,
        1_050,
        "it counts from zero in its new life"
    );
    tokens.store(7, Ordering::Relaxed);
    assert_eq!(endpoint.replicas.totals().output_tokens, 1_057);
    let lives: Vec<(u32, u64)> = endpoint
        .replicas
        .all()
        .iter()
        .map(|measured| (measured.replica.number, measured.replica.incarnation))
        .collect();
    assert_eq!(lives, [(1, 3), (2, 2)]);
}

#[test]
fn an_endpoint_with_failed_replicas_is_degraded_and_failed_when_none_is_left() {
    let world = World::new();
    let first = world.replica(1, 1, None).0;
    let endpoint = Endpoint::new("pierdesk", 1, world.model.clone(), first.plan.clone());
    endpoint.replicas.place(first);
    assert_eq!(endpoint.replicas.state().name(), "ready");
    endpoint
        .replicas
        .place(world.replica(2, 2, Some("it ran into a wall")).0);
    assert_eq!(endpoint.replicas.state().name(), "degraded");
    endpoint
        .replicas
        .place(world.replica(1, 3, Some("it ran into a wall")).0);
    assert_eq!(endpoint.replicas.state().name(), "failed");
}
