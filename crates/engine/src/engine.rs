//! The loop that turns requests into steps and steps into events.
//!
//! | module | question it answers |
//! |---|---|
//! | [`core`] | what follows from what comes in? (pure) |
//! | [`frame`] | what is said between an engine and its callers? |
//! | [`edge`] | which caller waits for which of its events? |

#[cfg(test)]
mod allocations;
pub mod core;
pub mod edge;
pub mod frame;
mod live;
mod logprobs_of_prompt;
mod thread;
mod thread_inbox;

use crate::executor::{Executor, MemoryReport};
use crate::record::StepRecord;
use crate::request::{GenerationRequest, Refusal};
use crate::scheduler::Limits;
use core::EngineCore;
use edge::{Edge, RequestStream};
use frame::{EngineStatus, Frame};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Instant;
use thread::{EngineThread, Message};
use vastrelay_text::TokenPieces;

/// One model being served in this process: an engine core, an executor and the thread that runs them.
pub struct Engine {
    edge: Arc<Edge>,
    outbox: mpsc::Sender<Message>,
    memory: MemoryReport,
    vocabulary: usize,
    limits: Limits,
    thread: Option<JoinHandle<()>>,
}

impl Engine {
    /// Starts the thread.
    ///
    /// `build` names what the weights are; equal prompts of equal builds may share KV pages.
    ///
    /// # Panics
    /// When the limits are not usable (see [`crate::Scheduler::new`]) or the system refuses a thread.
    pub fn start(executor: Box<dyn Executor>, pieces: Arc<TokenPieces>, limits: Limits, build: String) -> Engine {
        let (memory, vocabulary) = (executor.memory(), executor.vocabulary());
        let started = Instant::now();
        let (outbox, inbox) = mpsc::channel();
        let orders = outbox.clone();
        let edge = Arc::new(Edge::new(started, move |order| {
            orders.send(Message::Order(order)).is_ok()
        }));
        let core = EngineCore::new(pieces, limits.clone(), build);
        // Callers ask how things stand before the first step, too.
        edge.take(&mut Frame {
            status: core.status().clone(),
            ..Frame::default()
        });
        let channel = (outbox.clone(), inbox);
        let mut engine = EngineThread::new(core, executor, edge.clone(), channel, started);
        let thread = std::thread::Builder::new()
            .name("engine".into())
            .spawn(move || {
                let ran = catch_unwind(AssertUnwindSafe(|| engine.run()));
                let words = |panic: &(dyn std::any::Any + Send)| format!("its thread panicked: {}", words_of(panic));
                match ran.unwrap_or_else(|panic| Some(words(&*panic))) {
                    Some(reason) => {
                        tracing::error!(reason, "the engine stops");
                        engine.edge.fail(&reason);
                    }
                    None => engine.edge.close(),
                }
            })
            .expect("the system gives a thread for the engine");
        Engine {
            edge,
            outbox,
            memory,
            vocabulary,
            limits,
            thread: Some(thread),
        }
    }

    /// Hands in the requests of a call, all or none; see [`Edge::submit`].
    ///
    /// # Errors
    /// When they are refused; nothing of them is left behind.
    pub async fn submit(&self, requests: Vec<GenerationRequest>) -> Result<RequestStream, Refusal> {
        requests.iter().try_for_each(|request| request.check(self.vocabulary))?;
        self.edge.submit(requests).await
    }

    /// Returns how things stand.
    pub fn status(&self) -> EngineStatus {
        self.edge.status()
    }

    /// Returns the newest records after a step number, oldest first.
    pub fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        self.edge.steps_after(number, most)
    }

    /// Returns what the executor took of its device's memory.
    pub fn memory(&self) -> MemoryReport {
        self.memory
    }

    /// Returns what the scheduler may spend.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }
}

/// Returns what a panic said.
fn words_of(panic: &(dyn std::any::Any + Send)) -> &str {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or(panic.downcast_ref::<&str>().copied())
        .unwrap_or("without a word")
}

impl Drop for Engine {
    fn drop(&mut self) {
        let _ = self.outbox.send(Message::Stop);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
