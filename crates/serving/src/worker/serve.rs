//! The worker's side: it listens to one service at a time, loads its assignment, and runs its engine.

use super::event_sender::EventSender;
use super::message;
use super::protocol::{
    Handshake, HandshakeReply, MOST_HANDSHAKE, MOST_TO_WORKER, PROTOCOL, Ready, Secret, StartPhase, ToService,
    ToWorker, TokenTable, WorkerConfig, WorkerIdentity,
};
use super::send_buffer::SendBuffer;
use crate::error::LoadError;
use crate::replicas::touch::touch;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use nix::time::{ClockId, clock_gettime};
use std::io::{self, BufReader, Write};
use std::os::fd::AsFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use subtle::ConstantTimeEq;
use vastrelay_engine::engine::frame::{EngineCommand, FrameSink};
use vastrelay_engine::{GenerationRequest, Limits, Refusal, RunningEngine};
use vastrelay_kernels::reserved::Untouched;
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_weights::{ModelDescription, ModelFiles};

/// Longest that nobody may connect at first.
const FIRST_LIMIT: Duration = Duration::from_secs(10);
/// Longest that somebody who has connected may take to say who it is.
const HELLO_LIMIT: Duration = Duration::from_secs(5);
/// Longest that a refusal may take to be written.
const REPLY_LIMIT: Duration = Duration::from_secs(5);
/// Bytes of memory that are given before that is told, unless they are the last.
const TOLD_TOGETHER: usize = 32 << 20;

/// Why a worker ends that has not failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Over {
    /// It was told to.
    Told,
    /// Its service stayed away.
    Away,
    /// It was drained: its last call has ended.
    Drained,
}

struct Worker {
    event_sender: Arc<EventSender>,
    spinning: Spinning,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    config: Option<WorkerConfig>,
    /// How long it waits for a service that is gone.
    stay: Duration,
    /// It takes no more calls.
    drains: bool,
    /// Once it has loaded.
    engine: Option<RunningEngine>,
    ready: Option<Ready>,
}

/// Serves as a worker until it is told to end, or its service stays away for longer than it said. `failed` is called, from any thread, when its engine
/// can do no more and that has been told.
///
/// # Errors
/// When the system refuses what it needs.
pub fn serve(listener: &UnixListener, failed: impl Fn() + Send + Sync + 'static) -> io::Result<Over> {
    listener.set_nonblocking(true)?;
    let worker = Worker::new(failed);
    let mut known: Option<Secret> = None;
    let mut until = Instant::now() + FIRST_LIMIT;
    loop {
        let Some(socket) = accept(listener, until)? else {
            return Ok(Over::Away);
        };
        let handshake = match greet(&socket, known.as_ref()) {
            Ok(handshake) => handshake,
            Err(refusal) => {
                refuse(&socket, &refusal);
                continue;
            }
        };
        known.get_or_insert(handshake.secret);
        // A service that leaves during the answer connects again.
        if let Ok(true) = worker.converse(&socket) {
            return Ok(Over::Told);
        }
        worker.event_sender.disconnect();
        let state = worker.state();
        if state.drains {
            return Ok(Over::Drained);
        }
        // A worker without a configuration waits as at first.
        let limit = state.config.as_ref().map_or(FIRST_LIMIT, |_| state.stay);
        until = Instant::now() + limit;
    }
}

/// Waits for somebody to connect, until a moment.
fn accept(listener: &UnixListener, until: Instant) -> io::Result<Option<UnixStream>> {
    loop {
        let left = until.saturating_duration_since(Instant::now());
        let limit = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
        let mut wanted = [PollFd::new(listener.as_fd(), PollFlags::POLLIN)];
        match poll(&mut wanted, limit) {
            Ok(0) if Instant::now() >= until => return Ok(None),
            Ok(0) | Err(nix::errno::Errno::EINTR) => continue,
            Ok(_) => {}
            Err(error) => return Err(error.into()),
        }
        match listener.accept() {
            Ok((socket, _)) => {
                socket.set_nonblocking(false)?;
                return Ok(Some(socket));
            }
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
}

/// Reads who has connected, and makes sure that it may.
fn greet(socket: &UnixStream, known: Option<&Secret>) -> Result<Handshake, String> {
    let peer = getsockopt(socket, PeerCredentials).map_err(|error| format!("nobody knows who you are: {error}"))?;
    if peer.uid() != nix::unistd::geteuid().as_raw() {
        return Err("this worker is another user's".into());
    }
    let handshake = socket
        .set_read_timeout(Some(HELLO_LIMIT))
        .and_then(|()| message::read(&mut &*socket, MOST_HANDSHAKE, &mut Vec::new()))
        .and_then(|handshake: Handshake| socket.set_read_timeout(None).map(|()| handshake))
        .map_err(|error| format!("no greeting came that can be read: {error}"))?;
    if handshake.protocol != PROTOCOL {
        return Err(format!(
            "this worker, of version {}, speaks version {PROTOCOL} of the workers' protocol; version {}, of program {}, is not understood",
            env!("CARGO_PKG_VERSION"),
            handshake.protocol,
            handshake.program.escape_debug()
        ));
    }
    let same = |known: &Secret| bool::from(known.0.ct_eq(&handshake.secret.0));
    if known.is_some_and(|known| !same(known)) {
        return Err("this worker belongs to another service".into());
    }
    Ok(handshake)
}

fn refuse(mut socket: &UnixStream, why: &str) {
    let mut bytes = Vec::new();
    message::encode(&HandshakeReply::Refused(why.to_owned()), &mut bytes);
    // A service that does not read the answer needs none.
    let _ = socket
        .set_write_timeout(Some(REPLY_LIMIT))
        .and_then(|()| socket.write_all(&bytes));
}

impl Worker {
    fn new(failed: impl Fn() + Send + Sync + 'static) -> Arc<Worker> {
        Arc::new_cyclic(|worker: &std::sync::Weak<Worker>| {
            let commands = worker.clone();
            let command = move |command| {
                if let Some(worker) = commands.upgrade() {
                    worker.command(command);
                }
            };
            Worker {
                event_sender: Arc::new(EventSender::new(command, failed)),
                spinning: Spinning::default(),
                state: Mutex::default(),
            }
        })
    }

    /// Listens to a service; returns whether the service has ended the worker.
    fn converse(self: &Arc<Self>, socket: &UnixStream) -> io::Result<bool> {
        let identity = HandshakeReply::Accepted(Box::new(WorkerIdentity {
            program: env!("CARGO_PKG_VERSION").into(),
            process: std::process::id(),
            config: self.state().config.clone(),
            held: self.event_sender.held(),
        }));
        let event_sender = self.event_sender.clone();
        let send_buffer = SendBuffer::start(socket, move || event_sender.cleared())?;
        send_buffer.say(&identity);
        self.event_sender.connect(send_buffer);
        let ready = self.state().ready.clone();
        if let Some(ready) = ready {
            self.event_sender.ready(&ready);
        }
        let mut input = BufReader::with_capacity(1 << 16, socket);
        let mut bytes = Vec::new();
        loop {
            match message::read(&mut input, MOST_TO_WORKER, &mut bytes)? {
                ToWorker::Start(config, tokens, stay) => self.start(*config, tokens, stay)?,
                ToWorker::Command(command) => self.command(command),
                ToWorker::Read(read) => self.event_sender.read(read),
                ToWorker::Spin(spins) => self.spinning.set(spins),
                ToWorker::Drain => self.drain()?,
                ToWorker::End => return Ok(true),
            }
        }
    }

    /// Loads on a thread, so that the worker hears a service that connects meanwhile.
    fn start(self: &Arc<Self>, config: WorkerConfig, tokens: TokenTable, stay: Duration) -> io::Result<()> {
        let mut state = self.state();
        if state.config.is_some() {
            return Err(io::Error::other("it has begun already"));
        }
        (state.config, state.stay) = (Some(config.clone()), stay);
        drop(state);
        let worker = self.clone();
        let thread = std::thread::Builder::new().name("load".into());
        thread.spawn(move || {
            let loaded = catch_unwind(AssertUnwindSafe(|| worker.load(&config, tokens)));
            let failure = match loaded {
                Ok(Ok(())) => return,
                Ok(Err(error)) => error.to_string(),
                Err(_) => "loading panicked".into(),
            };
            tracing::error!(reason = failure, "it cannot be loaded");
            worker.event_sender.fail(&failure);
        })?;
        Ok(())
    }

    /// Takes no more calls and hangs up when the last one has ended and all has been told.
    fn drain(&self) -> io::Result<()> {
        if std::mem::replace(&mut self.state().drains, true) {
            return Ok(());
        }
        let event_sender = self.event_sender.clone();
        let thread = std::thread::Builder::new().name("drain".into());
        thread.spawn(move || event_sender.hang_up_when_done())?;
        Ok(())
    }

    fn load(self: &Arc<Self>, config: &WorkerConfig, tokens: TokenTable) -> Result<(), LoadError> {
        let assignment = &config.assignment;
        let enters = |phase| self.event_sender.send(ToService::Phase(phase));
        enters(StartPhase::VerifyingFiles);
        vastrelay_files::take_working_directory(assignment.path()).map_err(LoadError::Thread)?;
        let files = ModelFiles::open(assignment.path())?;
        let description = ModelDescription::read(&files)?;
        let loaded = assignment.load(
            &files,
            &description,
            &tokens.pieces,
            &tokens.ends,
            &enters,
            &self.spinning,
        )?;
        let untouched: usize = loaded.untouched.iter().map(Untouched::bytes).sum();
        let (began, started) = (Instant::now(), now());
        let engine = RunningEngine::start(
            loaded.executor,
            tokens.pieces,
            // The service's queue decides which calls may wait, and how long.
            Limits {
                queue_depth: usize::MAX,
                queue_wait: None,
                ..assignment.limits.clone()
            },
            assignment.build(),
            began,
            |_| self.event_sender.clone(),
        );
        let ready = Ready {
            memory: engine.memory(),
            untouched,
            vocabulary: engine.vocabulary(),
            limits: assignment.limits.clone(),
            started,
            status: Default::default(),
        };
        let mut state = self.state();
        (state.engine, state.ready) = (Some(engine), Some(ready.clone()));
        drop(state);
        self.event_sender.ready(&ready);
        let (worker, mut left, mut given) = (self.clone(), untouched, 0);
        let count = move |bytes: usize| {
            left = left.saturating_sub(bytes);
            given += bytes;
            if given >= TOLD_TOGETHER || left == 0 {
                worker.given(std::mem::take(&mut given));
            }
        };
        touch(loaded.untouched, count).map_err(LoadError::Thread)
    }

    /// Notes that the system has given memory, for this service and for the next.
    fn given(&self, bytes: usize) {
        let mut state = self.state();
        if let Some(ready) = &mut state.ready {
            ready.untouched = ready.untouched.saturating_sub(bytes);
        }
        drop(state);
        self.event_sender.send(ToService::Given(bytes));
    }

    /// Hands an order to the engine, or refuses it.
    fn command(&self, command: EngineCommand) {
        let state = self.state();
        let Some(engine) = &state.engine else {
            return self.refuse(&command, "it has not loaded yet");
        };
        if state.drains && matches!(command, EngineCommand::Submit { .. }) {
            return self.refuse(&command, "it is drained");
        }
        if let EngineCommand::Submit { call, requests, .. } = &command {
            let checked = requests
                .iter()
                .try_for_each(|request| request.check(engine.vocabulary()));
            if let Err(refusal) = checked {
                return self.event_sender.refuse(*call, refusal);
            }
            let completions = requests.iter().map(GenerationRequest::unfinished).sum();
            self.event_sender.holds(*call, completions);
        }
        engine.command(command);
    }

    fn refuse(&self, command: &EngineCommand, why: &str) {
        if let EngineCommand::Submit { call, .. } = command {
            self.event_sender.refuse(*call, Refusal::Stopped(why.into()));
        }
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the time of the machine's clock that never runs backwards, in nanoseconds.
pub(super) fn now() -> u64 {
    let time = clock_gettime(ClockId::CLOCK_MONOTONIC).map_or(Duration::ZERO, Duration::from);
    time.as_nanos() as u64
}
