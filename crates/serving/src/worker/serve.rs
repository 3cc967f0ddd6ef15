//! What a worker does: it listens to one service at a time, loads what it is told, and runs its engine.

use super::message;
use super::outlet::Outlet;
use super::protocol::{
    Duty, Hello, MOST_ASKED, MOST_HELLO, PROTOCOL, Phase, Ready, Reply, Secret, ToService, ToWorker, Welcome, Words,
};
use super::teller::Teller;
use crate::error::LoadError;
use crate::touch::touch;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use nix::time::{ClockId, clock_gettime};
use std::io::{self, BufReader, Write};
use std::os::fd::AsFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_engine::engine::frame::{FrameSink, Order};
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
    teller: Arc<Teller>,
    spinning: Spinning,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    duty: Option<Duty>,
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
        let hello = match greet(&socket, known.as_ref()) {
            Ok(hello) => hello,
            Err(refusal) => {
                refuse(&socket, &refusal);
                continue;
            }
        };
        known.get_or_insert(hello.secret);
        // Whoever leaves while being answered comes again.
        if let Ok(true) = worker.converse(&socket) {
            return Ok(Over::Told);
        }
        worker.teller.disconnect();
        let state = worker.state();
        if state.drains {
            return Ok(Over::Drained);
        }
        // Whoever was told nothing yet waits as at first.
        let patience = state.duty.as_ref().map_or(FIRST_LIMIT, |_| state.stay);
        until = Instant::now() + patience;
    }
}

/// Waits for somebody to connect, until a moment.
fn accept(listener: &UnixListener, until: Instant) -> io::Result<Option<UnixStream>> {
    loop {
        let left = until.saturating_duration_since(Instant::now());
        let patience = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
        let mut wanted = [PollFd::new(listener.as_fd(), PollFlags::POLLIN)];
        match poll(&mut wanted, patience) {
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
fn greet(socket: &UnixStream, known: Option<&Secret>) -> Result<Hello, String> {
    let peer = getsockopt(socket, PeerCredentials).map_err(|error| format!("nobody knows who you are: {error}"))?;
    if peer.uid() != nix::unistd::geteuid().as_raw() {
        return Err("this worker is another user's".into());
    }
    let hello = socket
        .set_read_timeout(Some(HELLO_LIMIT))
        .and_then(|()| message::read(&mut &*socket, MOST_HELLO, &mut Vec::new()))
        .and_then(|hello: Hello| socket.set_read_timeout(None).map(|()| hello))
        .map_err(|error| format!("no greeting came that can be read: {error}"))?;
    if hello.protocol != PROTOCOL {
        return Err(format!(
            "this worker, of version {}, speaks version {PROTOCOL} of the workers' protocol; version {}, of program {}, is not understood",
            env!("CARGO_PKG_VERSION"),
            hello.protocol,
            hello.program.escape_debug()
        ));
    }
    let same = |known: &Secret| constant_time_eq(&known.0, &hello.secret.0);
    if known.is_some_and(|known| !same(known)) {
        return Err("this worker belongs to another service".into());
    }
    Ok(hello)
}

/// Compares without telling by time where two differ.
fn constant_time_eq(one: &[u8; 32], other: &[u8; 32]) -> bool {
    blake3::Hash::from_bytes(*one) == blake3::Hash::from_bytes(*other)
}

fn refuse(mut socket: &UnixStream, why: &str) {
    let mut bytes = Vec::new();
    message::encode(&Reply::Refused(why.to_owned()), &mut bytes);
    // Who does not read it does not want to know.
    let _ = socket
        .set_write_timeout(Some(REPLY_LIMIT))
        .and_then(|()| socket.write_all(&bytes));
}

impl Worker {
    fn new(failed: impl Fn() + Send + Sync + 'static) -> Arc<Worker> {
        Arc::new_cyclic(|worker: &std::sync::Weak<Worker>| {
            let orders = worker.clone();
            let order = move |order| {
                if let Some(worker) = orders.upgrade() {
                    worker.order(order);
                }
            };
            Worker {
                teller: Arc::new(Teller::new(order, failed)),
                spinning: Spinning::default(),
                state: Mutex::default(),
            }
        })
    }

    /// Listens to a service; returns whether it was told to end.
    fn converse(self: &Arc<Self>, socket: &UnixStream) -> io::Result<bool> {
        let welcome = Reply::Welcome(Box::new(Welcome {
            program: env!("CARGO_PKG_VERSION").into(),
            process: std::process::id(),
            duty: self.state().duty.clone(),
            held: self.teller.held(),
        }));
        let teller = self.teller.clone();
        let outlet = Outlet::start(socket, move || teller.cleared())?;
        outlet.say(&welcome);
        self.teller.connect(outlet);
        let ready = self.state().ready.clone();
        if let Some(ready) = ready {
            self.teller.ready(&ready);
        }
        let mut input = BufReader::with_capacity(1 << 16, socket);
        let mut bytes = Vec::new();
        loop {
            match message::read(&mut input, MOST_ASKED, &mut bytes)? {
                ToWorker::Begin(duty, words, stay) => self.begin(*duty, words, stay)?,
                ToWorker::Order(order) => self.order(order),
                ToWorker::Read(read) => self.teller.read(read),
                ToWorker::Spin(spins) => self.spinning.set(spins),
                ToWorker::Drain => self.drain()?,
                ToWorker::End => return Ok(true),
            }
        }
    }

    /// Loads on a thread, so that whoever connects meanwhile is heard.
    fn begin(self: &Arc<Self>, duty: Duty, words: Words, stay: Duration) -> io::Result<()> {
        let mut state = self.state();
        if state.duty.is_some() {
            return Err(io::Error::other("it has begun already"));
        }
        (state.duty, state.stay) = (Some(duty.clone()), stay);
        drop(state);
        let worker = self.clone();
        let thread = std::thread::Builder::new().name("load".into());
        thread.spawn(move || {
            let loaded = catch_unwind(AssertUnwindSafe(|| worker.load(&duty, words)));
            let failure = match loaded {
                Ok(Ok(())) => return,
                Ok(Err(error)) => error.to_string(),
                Err(_) => "loading panicked".into(),
            };
            tracing::error!(reason = failure, "it cannot be loaded");
            worker.teller.fail(&failure);
        })?;
        Ok(())
    }

    /// Takes no more calls and hangs up when the last one has ended and all has been told.
    fn drain(&self) -> io::Result<()> {
        if std::mem::replace(&mut self.state().drains, true) {
            return Ok(());
        }
        let teller = self.teller.clone();
        let thread = std::thread::Builder::new().name("drain".into());
        thread.spawn(move || teller.hang_up_when_done())?;
        Ok(())
    }

    fn load(self: &Arc<Self>, duty: &Duty, words: Words) -> Result<(), LoadError> {
        let assignment = &duty.assignment;
        let enters = |phase| self.teller.tell(ToService::Phase(phase));
        enters(Phase::VerifyingFiles);
        vastrelay_files::take_working_directory(assignment.path()).map_err(LoadError::Thread)?;
        let files = ModelFiles::open(assignment.path())?;
        let description = ModelDescription::read(&files)?;
        let loaded = assignment.load(
            &files,
            &description,
            &words.pieces,
            &words.ends,
            &enters,
            &self.spinning,
        )?;
        let untouched: usize = loaded.untouched.iter().map(Untouched::bytes).sum();
        let (began, started) = (Instant::now(), now());
        let engine = RunningEngine::start(
            loaded.executor,
            words.pieces,
            // Who may wait, and how long, is decided where the service's queue is.
            Limits {
                queue_depth: usize::MAX,
                queue_wait: None,
                ..assignment.limits.clone()
            },
            assignment.build(),
            began,
            |_| self.teller.clone(),
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
        self.teller.ready(&ready);
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
        self.teller.tell(ToService::Given(bytes));
    }

    /// Hands an order to the engine, or refuses it.
    fn order(&self, order: Order) {
        let state = self.state();
        let Some(engine) = &state.engine else {
            return self.refuse(&order, "it has not loaded yet");
        };
        if state.drains && matches!(order, Order::Submit { .. }) {
            return self.refuse(&order, "it is drained");
        }
        if let Order::Submit { call, requests, .. } = &order {
            let checked = requests
                .iter()
                .try_for_each(|request| request.check(engine.vocabulary()));
            if let Err(refusal) = checked {
                return self.teller.refuse(*call, refusal);
            }
            let completions = requests.iter().map(GenerationRequest::unfinished).sum();
            self.teller.holds(*call, completions);
        }
        engine.order(order);
    }

    fn refuse(&self, order: &Order, why: &str) {
        if let Order::Submit { call, .. } = order {
            self.teller.refuse(*call, Refusal::Stopped(why.into()));
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
