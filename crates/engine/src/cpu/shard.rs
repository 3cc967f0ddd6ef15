//! The thread of one shard.

use super::exchange::{Exchange, OtherFailed};
use super::forward::Forward;
use super::model::Model;
use super::{CpuSettings, layer_pages};
use crate::executor::{StepBatch, StepResult};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use vastrelay_kernels::Pool;

/// Where one shard computes.
pub(super) struct ShardThread {
    pub batches: Option<mpsc::Sender<Arc<StepBatch>>>,
    pub results: mpsc::Receiver<Result<StepResult, Failure>>,
    pub thread: Option<JoinHandle<()>>,
}

/// Why a shard did not finish a step.
pub(super) enum Failure {
    Here(String),
    Elsewhere,
}

impl ShardThread {
    /// Starts a thread that computes each batch it is sent until one fails.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn start(model: Model, exchange: Exchange, settings: &CpuSettings) -> ShardThread {
        let layers = layer_pages(&model.description, settings);
        let (isa, cores) = (settings.isa, exchange.shard().range(settings.cores).len());
        let (batches, inbox) = mpsc::channel::<Arc<StepBatch>>();
        let (outbox, results) = mpsc::channel();
        let shard = exchange.shard();
        let thread = std::thread::Builder::new()
            .name(format!("executor-{}", shard.index))
            .spawn(move || {
                let mut forward = Forward::new(model, layers, isa, Pool::new(cores), exchange);
                for batch in inbox {
                    let outcome = catch_unwind(AssertUnwindSafe(|| forward.step(&batch)));
                    let result = outcome.map_err(|panic| {
                        forward.fail();
                        Failure::of(&*panic)
                    });
                    let failed = result.is_err();
                    if outbox.send(result).is_err() || failed {
                        return;
                    }
                }
            })
            .expect("the system gives a thread for each shard");
        ShardThread {
            batches: Some(batches),
            results,
            thread: Some(thread),
        }
    }
}

impl Failure {
    fn of(panic: &(dyn std::any::Any + Send)) -> Failure {
        match panic.is::<OtherFailed>() {
            true => Failure::Elsewhere,
            false => Failure::Here(describe_panic(panic)),
        }
    }
}

fn describe_panic(panic: &(dyn std::any::Any + Send)) -> String {
    let text = panic
        .downcast_ref::<String>()
        .map(String::as_str)
        .or(panic.downcast_ref::<&str>().copied());
    text.unwrap_or("a kernel panicked").to_owned()
}
