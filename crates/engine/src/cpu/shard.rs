//! The thread of one shard.

use super::exchange::{Exchange, OtherFailed};
use super::forward::Forward;
use super::model::Model;
use super::results::{Failure, Results};
use super::{CpuSettings, layer_pages};
use crate::executor::{StepBatch, StepResult};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use vastrelay_kernels::ThreadPool;
use vastrelay_kernels::attention::LayerPages;
use vastrelay_kernels::reserved::Untouched;

/// A command to a shard.
#[derive(Clone)]
pub(super) enum ShardCommand {
    Step(Arc<StepBatch>),
    /// Fills its KV memory at random; gives an empty result.
    Fill(u64),
}

/// Where one shard computes.
pub(super) struct ShardThread {
    orders: Option<mpsc::SyncSender<ShardCommand>>,
    thread: Option<JoinHandle<()>>,
    /// Its KV memory, for a thread that touches it.
    pub kv: Vec<Untouched>,
}

impl ShardThread {
    /// Starts a thread that does what it is sent until something fails.
    ///
    /// # Panics
    /// When the system refuses a thread.
    pub fn start(model: Model, exchange: Exchange, settings: &CpuSettings, results: Arc<Results>) -> ShardThread {
        let layers = layer_pages(&model.description, settings);
        let kv = layers.iter().flat_map(LayerPages::untouched).collect();
        let (isa, cores) = (settings.isa, exchange.shard().range(settings.cores).len());
        let spinning = settings.spinning.clone();
        // One step at a time: nobody ever waits for room.
        let (orders, inbox) = mpsc::sync_channel(1);
        let shard = exchange.shard();
        // Started here, so that a system without threads fails the start and not a thread for which others wait.
        let threads = ThreadPool::spinning(cores, spinning);
        let thread = std::thread::Builder::new()
            .name(format!("executor-{}", shard.index))
            .spawn(move || {
                let mut forward = Forward::new(model, layers, isa, threads, exchange);
                for order in inbox {
                    let outcome = catch_unwind(AssertUnwindSafe(|| match &order {
                        ShardCommand::Step(batch) => forward.step(batch),
                        ShardCommand::Fill(seed) => {
                            forward.fill(*seed);
                            StepResult::default()
                        }
                    }));
                    let result = outcome.map_err(|panic| {
                        forward.fail();
                        Failure::of(&*panic)
                    });
                    drop(order);
                    let failed = result.is_err();
                    results.take(shard.index, result);
                    if failed {
                        return;
                    }
                }
            })
            .expect("the system gives a thread for each shard");
        ShardThread {
            orders: Some(orders),
            thread: Some(thread),
            kv,
        }
    }
}

impl ShardThread {
    /// Hands it something to do; returns whether it still lives.
    pub fn take(&self, order: &ShardCommand) -> bool {
        let orders = self.orders.as_ref();
        orders.is_some_and(|orders| orders.send(order.clone()).is_ok())
    }
}

impl Drop for ShardThread {
    fn drop(&mut self) {
        self.orders = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
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
