//! The loop that turns requests into steps and steps into events.

#[cfg(test)]
mod allocations;
mod prompt_scores;
mod runner;

use crate::executor::{Executor, MemoryReport};
use crate::record::{StepRecord, StepRing};
use crate::request::{Event, GenerationRequest, Refusal, RequestStream};
use crate::scheduler::{Limits, Occupancy};
use runner::Runner;
use serde::Serialize;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, mpsc as std_mpsc};
use std::thread::JoinHandle;
use tokio::sync::{mpsc, oneshot};
use vastrelay_text::TokenPieces;

/// Step records kept.
const RING: usize = 4096;
/// Events a reader may leave unread before its request is ended.
const MOST_UNREAD: usize = 4096;

/// One model being served: a scheduler, an executor and the thread that runs them.
pub struct Engine {
    commands: Sender<Command>,
    shared: Arc<Shared>,
    memory: MemoryReport,
    limits: Limits,
    thread: Option<JoinHandle<()>>,
}

/// What an engine has done so far and what it is at.
#[derive(Clone, Debug, Default, Serialize)]
pub struct EngineStatus {
    /// Sequences, lanes and pages now.
    #[serde(flatten)]
    pub occupancy: Occupancy,
    /// Steps so far.
    pub steps: u64,
    /// Seconds that steps took so far.
    pub busy: f64,
    /// Prompt tokens computed so far, again after a preemption included.
    pub prefill_tokens: u64,
    /// Tokens produced so far.
    pub output_tokens: u64,
    /// Completions that ended so far.
    pub ended: u64,
    /// Preemptions so far.
    pub preemptions: u64,
    /// Mean seconds that a completion stays in the batch, over the recent ones.
    pub residence: f64,
    /// Seconds since the engine started: the clock of its step records.
    pub uptime: f64,
    /// Set when the engine has failed.
    pub failure: Option<String>,
}

pub(crate) enum Command {
    Submit(Box<Submission>),
    Cancel(u64),
    Stop,
}

pub(crate) struct Submission {
    pub request: GenerationRequest,
    pub number: u64,
    pub events: mpsc::Sender<Event>,
    pub accepted: oneshot::Sender<Result<(), Refusal>>,
    pub arrived: std::time::Instant,
}

pub(crate) struct Shared {
    pub status: Mutex<EngineStatus>,
    pub ring: Mutex<StepRing>,
    /// When the engine started.
    pub started: std::time::Instant,
    next_request: std::sync::atomic::AtomicU64,
}

impl Engine {
    /// Starts the thread.
    ///
    /// `build` names what the weights are; equal prompts of equal builds may share KV pages.
    ///
    /// # Panics
    /// When the limits are not usable (see [`crate::Scheduler::new`]) or the system refuses a thread.
    pub fn start(executor: Box<dyn Executor>, pieces: Arc<TokenPieces>, limits: Limits, build: String) -> Engine {
        let memory = executor.memory();
        let shared = Arc::new(Shared {
            status: Mutex::new(EngineStatus::default()),
            ring: Mutex::new(StepRing::new(RING)),
            started: std::time::Instant::now(),
            next_request: Default::default(),
        });
        let (commands, inbox) = std_mpsc::channel();
        let mut runner = Runner::new(executor, pieces, limits.clone(), build, inbox, shared.clone());
        let thread = std::thread::Builder::new()
            .name("engine".into())
            .spawn(move || {
                let ran = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| runner.run()));
                if let Err(panic) = ran {
                    runner.fail(&format!("its thread panicked: {}", words_of(panic.as_ref())));
                }
            })
            .expect("the system gives a thread for the engine");
        Engine {
            commands,
            shared,
            memory,
            limits,
            thread: Some(thread),
        }
    }

    /// Hands in a request; it is in the queue when this returns.
    ///
    /// # Errors
    /// When it is refused; nothing of it is left behind.
    pub async fn submit(&self, request: GenerationRequest) -> Result<RequestStream, Refusal> {
        let stopped = || Refusal::Stopped(self.status().failure.unwrap_or_else(|| "it was shut down".into()));
        let (events, stream) = mpsc::channel(MOST_UNREAD + request.choices as usize);
        let (accepted, answer) = oneshot::channel();
        let number = self
            .shared
            .next_request
            .fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let arrived = std::time::Instant::now();
        let submission = Submission {
            request,
            number,
            events,
            accepted,
            arrived,
        };
        self.commands
            .send(Command::Submit(Box::new(submission)))
            .map_err(|_| stopped())?;
        let commands = self.commands.clone();
        let on_drop: Box<dyn FnOnce() + Send + Sync> = Box::new(move || {
            let _ = commands.send(Command::Cancel(number));
        });
        // Built before the answer is awaited, so that a caller who gives up meanwhile cancels too.
        let stream = RequestStream {
            events: stream,
            on_drop: Some(on_drop),
        };
        answer.await.map_err(|_| stopped())??;
        Ok(stream)
    }

    /// Returns how things stand.
    pub fn status(&self) -> EngineStatus {
        let status = lock(&self.shared.status).clone();
        EngineStatus {
            uptime: self.shared.started.elapsed().as_secs_f64(),
            ..status
        }
    }

    /// Returns the newest records after a step number, oldest first.
    pub fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        lock(&self.shared.ring).after(number, most)
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
        let _ = self.commands.send(Command::Stop);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Locks, and carries on where another thread has panicked: what is under these locks is whole at every moment.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
