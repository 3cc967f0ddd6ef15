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
use frame::{EngineCommand, EngineStatus, Frame, FrameSink};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Instant;
use thread::{EngineThread, Message};
use vastrelay_text::TokenPieces;

/// The way to an engine. Clones lead to the same.
#[derive(Clone)]
pub struct CommandSender(mpsc::Sender<Message>);

impl CommandSender {
    /// Hands an order to the engine; returns whether it is still there.
    pub fn send(&self, command: EngineCommand) -> bool {
        self.0.send(Message::Command(command)).is_ok()
    }
}

/// An engine core, an executor and the thread that runs them; dropping it stops the thread. Its listeners may be in other processes.
pub struct RunningEngine {
    commands: CommandSender,
    memory: MemoryReport,
    vocabulary: usize,
    limits: Limits,
    thread: Option<JoinHandle<()>>,
}

impl RunningEngine {
    /// Starts the thread. `sink` makes what hears the engine, from before the first step on, and may give it the way to send orders.
    ///
    /// `build` names what the weights are; equal prompts of equal builds may share KV pages. The engine's clock began at `started`.
    ///
    /// # Panics
    /// When the limits are not usable (see [`crate::Scheduler::new`]) or the system refuses a thread.
    pub fn start(
        executor: Box<dyn Executor>,
        pieces: Arc<TokenPieces>,
        limits: Limits,
        build: String,
        started: Instant,
        sink: impl FnOnce(CommandSender) -> Arc<dyn FrameSink>,
    ) -> RunningEngine {
        let (outbox, inbox) = mpsc::channel();
        let commands = CommandSender(outbox.clone());
        let sink = sink(commands.clone());
        let (memory, vocabulary) = (executor.memory(), executor.vocabulary());
        let core = EngineCore::new(pieces, limits.clone(), build);
        sink.take(&mut Frame {
            status: core.status().clone(),
            ..Frame::default()
        });
        let mut engine = EngineThread::new(core, executor, sink, (outbox, inbox), started);
        let thread = std::thread::Builder::new()
            .name("engine".into())
            .spawn(move || {
                let ran = catch_unwind(AssertUnwindSafe(|| engine.run()));
                let words = |panic: &(dyn std::any::Any + Send)| format!("its thread panicked: {}", panic_text(panic));
                match ran.unwrap_or_else(|panic| Some(words(&*panic))) {
                    Some(reason) => {
                        tracing::error!(reason, "the engine stops");
                        engine.sink.fail(&reason);
                    }
                    None => engine.sink.close(),
                }
            })
            .expect("the system gives a thread for the engine");
        RunningEngine {
            commands,
            memory,
            vocabulary,
            limits,
            thread: Some(thread),
        }
    }

    /// Hands an order to the engine; returns whether it is still there.
    pub fn command(&self, command: EngineCommand) -> bool {
        self.commands.send(command)
    }

    /// Returns what the executor took of its device's memory.
    pub fn memory(&self) -> MemoryReport {
        self.memory
    }

    /// Returns how many tokens the model knows.
    pub fn vocabulary(&self) -> usize {
        self.vocabulary
    }
}

impl Drop for RunningEngine {
    fn drop(&mut self) {
        let _ = self.commands.0.send(Message::Stop);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// One model being served in this process: an engine, and its callers' side.
pub struct Engine {
    edge: Arc<Edge>,
    running: RunningEngine,
}

impl Engine {
    /// Starts the thread.
    ///
    /// `build` names what the weights are; equal prompts of equal builds may share KV pages.
    ///
    /// # Panics
    /// When the limits are not usable (see [`crate::Scheduler::new`]) or the system refuses a thread.
    pub fn start(executor: Box<dyn Executor>, pieces: Arc<TokenPieces>, limits: Limits, build: String) -> Engine {
        let started = Instant::now();
        let mut edge = None;
        let running = RunningEngine::start(executor, pieces, limits, build, started, |commands| {
            let made = Arc::new(Edge::new(started, move |command| commands.send(command)));
            edge.insert(made).clone()
        });
        let edge = edge.expect("it was made with the engine");
        Engine { edge, running }
    }

    /// Hands in the requests of a call, all or none; see [`Edge::submit`].
    ///
    /// # Errors
    /// When they are refused; nothing of them is left behind.
    pub async fn submit(&self, requests: Vec<GenerationRequest>) -> Result<RequestStream, Refusal> {
        requests
            .iter()
            .try_for_each(|request| request.check(self.running.vocabulary))?;
        self.edge.submit(requests).await
    }

    /// See [`Edge::given`].
    pub fn given(&self) -> Option<usize> {
        self.edge.given()
    }

    /// See [`Edge::when_room`].
    pub fn when_room(&self, tell: Box<dyn Fn() + Send + Sync>) {
        self.edge.when_room(tell);
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
        self.running.memory
    }

    /// Returns what the scheduler may spend.
    pub fn limits(&self) -> &Limits {
        &self.running.limits
    }
}

/// Returns what a panic said.
fn panic_text(panic: &(dyn std::any::Any + Send)) -> &str {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or(panic.downcast_ref::<&str>().copied())
        .unwrap_or("without a word")
}
