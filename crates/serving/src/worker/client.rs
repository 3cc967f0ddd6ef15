//! How a service talks to a worker.

use super::message;
use super::protocol::{
    Handshake, HandshakeReply, MOST_FROM_WORKER, PROTOCOL, Ready, Secret, StartPhase, ToService, ToWorker, TokenTable,
    WINDOW, WorkerConfig, WorkerIdentity,
};
use super::send_buffer::SendBuffer;
use super::serve::now;
use crate::replicas::generate::Generate;
use futures_util::future::BoxFuture;
use std::collections::HashMap;
use std::io::{self, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand, Frame, FrameSink};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{Edge, EndReason, EngineStatus, Event, GenerationRequest, Limits, Refusal, RequestStream};

/// Longest that a worker may take to answer a greeting.
const WELCOME_LIMIT: Duration = Duration::from_secs(5);

/// An idle worker is asked for a sign of life after so long a silence.
const PING_AFTER: Duration = Duration::from_secs(5);

/// Why a worker cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum WorkerError {
    /// It says so.
    #[error("{0}")]
    Refused(String),
    /// It could not load, or its engine could not go on, and why.
    #[error("{0}")]
    Failed(String),
    /// It is gone, or what it says makes no sense.
    #[error("its worker cannot be reached: {0}")]
    Lost(#[from] io::Error),
}

/// A worker that has answered.
pub struct Connection {
    socket: UnixStream,
    /// The identity in its answer.
    pub identity: WorkerIdentity,
}

/// An engine in a worker.
pub struct WorkerEngine {
    edge: Arc<Edge>,
    send_buffer: Arc<SendBuffer>,
    drains: Arc<AtomicBool>,
    /// The last message about its cores.
    spins: Mutex<Option<bool>>,
    /// What it is.
    pub ready: Ready,
    heard: Arc<Heard>,
}

/// What the thread that listens to a worker has noticed.
struct Heard {
    state: Mutex<HeardState>,
    change: Condvar,
}

struct HeardState {
    /// When it last said anything.
    last: Instant,
    /// When a ping was sent that its engine has not answered.
    pinged: Option<Instant>,
    /// Why it says nothing any more.
    end: Option<String>,
    /// Whether the worker has reported this end.
    has_failed: bool,
}

impl Connection {
    /// Greets a worker.
    ///
    /// # Errors
    /// When it refuses, or does not answer.
    pub fn open(socket: UnixStream, secret: &Secret) -> Result<Connection, WorkerError> {
        let handshake = Handshake {
            protocol: PROTOCOL,
            program: env!("CARGO_PKG_VERSION").into(),
            secret: secret.clone(),
        };
        let mut bytes = Vec::new();
        message::encode(&handshake, &mut bytes);
        (&socket).write_all(&bytes)?;
        socket.set_read_timeout(Some(WELCOME_LIMIT))?;
        let reply: HandshakeReply = message::read(&mut &socket, MOST_FROM_WORKER, &mut bytes)?;
        socket.set_read_timeout(None)?;
        match reply {
            HandshakeReply::Accepted(identity) => Ok(Connection {
                socket,
                identity: *identity,
            }),
            HandshakeReply::Refused(why) => Err(WorkerError::Refused(why)),
        }
    }

    /// Tells a worker what to be and waits until it is; it will wait for another service for so long when this one is gone. `heard` hears how
    /// it gets on and of memory that the system gives it later.
    ///
    /// # Errors
    /// When it cannot be that, or is gone.
    pub fn start(
        self,
        config: WorkerConfig,
        tokens: TokenTable,
        stay: Duration,
        heard: impl FnMut(StartProgress) + Send + 'static,
    ) -> Result<WorkerEngine, WorkerError> {
        let mut bytes = Vec::new();
        message::encode(&ToWorker::Start(Box::new(config), tokens, stay), &mut bytes);
        (&self.socket).write_all(&bytes)?;
        self.adopt(heard)
    }

    /// Ends the worker.
    pub fn end(self) {
        let mut bytes = Vec::new();
        message::encode(&ToWorker::End, &mut bytes);
        // One that does not read it has ended already.
        let _ = (&self.socket).write_all(&bytes);
    }

    /// Waits until a worker that was told before what to be takes orders. What it still works on is ended, as nobody waits for it.
    ///
    /// # Errors
    /// When it cannot be that, or is gone.
    pub fn adopt(self, mut heard: impl FnMut(StartProgress) + Send + 'static) -> Result<WorkerEngine, WorkerError> {
        let mut input = BufReader::with_capacity(1 << 16, self.socket.try_clone()?);
        let mut buffer = Vec::new();
        let mut early = Vec::new();
        let mut taken = 0;
        let ready = loop {
            let told = message::read(&mut input, MOST_FROM_WORKER, &mut buffer)?;
            taken += buffer.len() + message::LENGTH;
            match told {
                ToService::Ready(ready) => break ready,
                ToService::Phase(phase) => heard(StartProgress::Phase(phase)),
                ToService::Failed(why) => return Err(WorkerError::Failed(why)),
                other => early.push(other),
            }
        };
        let send_buffer = SendBuffer::start(&self.socket, || ())?;
        let commands = send_buffer.clone();
        let edge = Arc::new(Edge::new(instant_of(ready.started), move |command| {
            commands.say(&ToWorker::Command(command))
        }));
        edge.take(&mut Frame {
            status: ready.status.clone(),
            ..Frame::default()
        });
        let engine = WorkerEngine {
            edge: edge.clone(),
            send_buffer: send_buffer.clone(),
            drains: Arc::default(),
            spins: Mutex::default(),
            ready,
            heard: Arc::new(Heard::new()),
        };
        for call in &self.identity.held {
            let reason = EndReason::Cancelled;
            send_buffer.say(&ToWorker::Command(EngineCommand::Cancel { call: *call, reason }));
        }
        edge.number_calls_after(self.identity.held.iter().copied().max().unwrap_or(0));
        let (noticed, drains) = (engine.heard.clone(), engine.drains.clone());
        let mut listener = Listener {
            edge,
            send_buffer,
            heard: Box::new(heard),
            scores: HashMap::new(),
            taken,
        };
        let thread = std::thread::Builder::new().name("worker".into());
        thread.spawn(move || {
            early.into_iter().for_each(|told| listener.hear(told));
            let end = loop {
                match message::read(&mut input, MOST_FROM_WORKER, &mut buffer) {
                    Ok(ToService::Failed(why)) => {
                        noticed.failed();
                        break why;
                    }
                    Ok(told) => {
                        if matches!(told, ToService::Events(..)) {
                            noticed.answered();
                        }
                        listener.hear(told);
                    }
                    Err(_) if drains.load(Ordering::Relaxed) => break "its worker was drained".into(),
                    Err(error) if is_gone(&error) => break "its worker is gone".into(),
                    Err(error) => break WorkerError::Lost(error).to_string(),
                }
                noticed.something();
                listener.took(buffer.len() + message::LENGTH);
            };
            noticed.end(&end);
            listener.send_buffer.close();
            listener.edge.fail(&end);
        })?;
        Ok(engine)
    }
}

/// Returns whether nobody is at the other end any more.
fn is_gone(error: &io::Error) -> bool {
    use io::ErrorKind::{BrokenPipe, ConnectionReset, UnexpectedEof};
    matches!(error.kind(), BrokenPipe | ConnectionReset | UnexpectedEof)
}

/// How a worker gets on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StartProgress {
    /// A part of its start has begun.
    Phase(StartPhase),
    /// The system has given so many more bytes of the memory that it has reserved.
    Given(usize),
}

/// Listens to a worker.
struct Listener {
    edge: Arc<Edge>,
    send_buffer: Arc<SendBuffer>,
    heard: Box<dyn FnMut(StartProgress) + Send>,
    /// Scores whose last part has not come.
    scores: HashMap<(CallNumber, u32), Vec<TokenLogprobs>>,
    /// Bytes that were read and not confirmed.
    taken: usize,
}

impl Listener {
    fn hear(&mut self, told: ToService) {
        match told {
            ToService::Phase(phase) => (self.heard)(StartProgress::Phase(phase)),
            ToService::Given(bytes) => (self.heard)(StartProgress::Given(bytes)),
            ToService::Scores(call, choice, more) => {
                self.scores.entry((call, choice)).or_default().extend(more);
            }
            ToService::Events(mut frame, earlier) => {
                for record in earlier {
                    self.edge.take(&mut Frame {
                        record: Some(record),
                        status: frame.status.clone(),
                        ..Frame::default()
                    });
                }
                self.complete_scores(&mut frame);
                self.edge.take(&mut frame);
            }
            // It says so again only to somebody else.
            ToService::Ready(_) | ToService::Failed(_) => {}
        }
    }

    /// Puts the first parts of scores before their last.
    fn complete_scores(&mut self, frame: &mut Frame) {
        if self.scores.is_empty() {
            return;
        }
        for (call, event) in &mut frame.events {
            if let Event::Prompt { choice, logprobs } = event
                && let Some(mut whole) = self.scores.remove(&(*call, *choice))
            {
                whole.append(logprobs);
                *logprobs = whole;
            }
        }
    }

    /// Lets the worker send on when much of what it may send ahead has been read.
    fn took(&mut self, bytes: usize) {
        self.taken += bytes;
        if self.taken >= WINDOW / 4 {
            self.send_buffer.say(&ToWorker::Read(std::mem::take(&mut self.taken)));
        }
    }
}

impl WorkerEngine {
    /// Waits until the worker is gone, for so long at most; returns why it is.
    pub fn wait_for_end(&self, limit: Duration) -> Option<String> {
        self.heard.wait(limit)
    }

    /// Returns the time since the last message of the worker, or since it became idle.
    pub fn silent_since(&self) -> Instant {
        self.heard.lock().last
    }

    /// Pings the worker's engine after a silence without work, one ping at a time. Returns the time of a ping without an answer.
    pub fn ping(&self) -> Option<Instant> {
        let is_idle = self.edge.unanswered() == 0;
        let mut state = self.heard.lock();
        if state.pinged.is_none() && is_idle && state.last.elapsed() >= PING_AFTER {
            state.pinged = Some(Instant::now());
            self.send_buffer.say(&ToWorker::Command(EngineCommand::Ping));
        }
        state.pinged
    }

    /// Returns whether the worker has reported why it cannot continue.
    pub fn has_failed(&self) -> bool {
        self.heard.lock().has_failed
    }

    /// Returns how many calls have not ended.
    pub fn unanswered(&self) -> usize {
        self.edge.unanswered()
    }

    /// Tells the worker whether its threads have cores of their own now, unless it knows.
    pub fn spin(&self, spins: bool) {
        let mut told = self.spins.lock().unwrap_or_else(PoisonError::into_inner);
        if told.replace(spins) != Some(spins) {
            self.send_buffer.say(&ToWorker::Spin(spins));
        }
    }

    /// Tells the worker to take no more calls and to stop when the last one has ended.
    pub fn drain(&self) {
        if !self.drains.swap(true, Ordering::Relaxed) {
            self.send_buffer.say(&ToWorker::Drain);
        }
    }

    /// Tells the worker to stop.
    pub fn end(&self) {
        self.send_buffer.say(&ToWorker::End);
    }
}

impl Drop for WorkerEngine {
    fn drop(&mut self) {
        self.end();
    }
}

impl Generate for WorkerEngine {
    fn submit(&self, requests: Vec<GenerationRequest>) -> BoxFuture<'_, Result<RequestStream, Refusal>> {
        let vocabulary = self.ready.vocabulary;
        Box::pin(async move {
            requests.iter().try_for_each(|request| request.check(vocabulary))?;
            // Whoever had nothing to do was not silent until now.
            if self.edge.unanswered() == 0 {
                self.heard.something();
            }
            self.edge.submit(requests).await
        })
    }

    fn given(&self) -> Option<usize> {
        self.edge.given().filter(|_| !self.is_drained())
    }

    fn is_drained(&self) -> bool {
        self.drains.load(Ordering::Relaxed)
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
        &self.ready.limits
    }
}

impl Heard {
    fn new() -> Heard {
        Heard {
            state: Mutex::new(HeardState {
                last: Instant::now(),
                pinged: None,
                end: None,
                has_failed: false,
            }),
            change: Condvar::new(),
        }
    }

    fn something(&self) {
        self.lock().last = Instant::now();
    }

    /// Notes a frame of the engine, which answers any ping.
    fn answered(&self) {
        self.lock().pinged = None;
    }

    fn failed(&self) {
        self.lock().has_failed = true;
    }

    fn end(&self, why: &str) {
        self.lock().end = Some(why.to_owned());
        self.change.notify_all();
    }

    fn wait(&self, limit: Duration) -> Option<String> {
        let lives = |state: &mut HeardState| state.end.is_none();
        let waited = self.change.wait_timeout_while(self.lock(), limit, lives);
        let (state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        state.end.clone()
    }

    fn lock(&self) -> MutexGuard<'_, HeardState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the moment of a time of the machine's clock.
fn instant_of(time: u64) -> Instant {
    let ago = Duration::from_nanos(now().saturating_sub(time));
    let now = Instant::now();
    now.checked_sub(ago).unwrap_or(now)
}
