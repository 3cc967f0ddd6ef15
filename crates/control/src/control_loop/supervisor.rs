//! Supervises a worker: starts or adopts it, watches it, and reports its exit.

use super::exit::Exit;
use crate::deployments::answer_settings::AnswerSettings;
use crate::events::EventLog;
use crate::replicas::cold_start::{PhaseClock, StartOrigin};
use crate::replicas::members::Replicas;
use crate::replicas::state::ReplicaState;
use crate::replicas::termination::Termination;
use crate::replicas::worker_log::WorkerLog;
use crate::replicas::workers::{FailedStart, Running, Workers};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};
use vastrelay_engine::EngineStatus;
use vastrelay_fleet::hang::{Pace, Watched, first_token, is_frozen, is_hung};
use vastrelay_serving::process::{Finish, Log, Process};
use vastrelay_serving::worker::FAILED;
use vastrelay_serving::worker::client::StartProgress;
use vastrelay_serving::worker::protocol::TokenTable;
use vastrelay_serving::worker::{WorkerConfig, WorkerEngine};
use vastrelay_serving::{Generate, Model, Plan, Replica};
use vastrelay_store::{IncarnationRecord, StartRecord, Store, milliseconds_since_1970};
use vastrelay_wire::manage::EventKind;

/// The number of an endpoint's first replica.
pub const FIRST: u32 = 1;
/// Time between two looks at a worker.
const LOOK: Duration = Duration::from_millis(250);
/// Most of the time between two looks that counts as silence: where it is more, the service itself did not run.
const MOST_BETWEEN_LOOKS: Duration = Duration::from_secs(1);
/// Time limit for a worker to end after the command.
const END_LIMIT: Duration = Duration::from_secs(3);
/// How long one may take to end that says nothing any more.
const EXIT_LIMIT: Duration = Duration::from_secs(1);
/// Lines of a dead worker that are shown.
const LAST_WORDS: usize = 5;

/// Supervises one worker; has all that its thread uses.
pub struct Supervisor {
    pub workers: Arc<Workers>,
    pub store: Arc<Store>,
    pub endpoint: String,
    /// The replica's number.
    pub replica: u32,
    pub incarnation: u64,
    /// Whether the worker is there already: an earlier service has left it.
    pub adopt: bool,
    pub plan: Arc<Plan>,
    pub model: Arc<Model>,
    pub answer_settings: Arc<AnswerSettings>,
    /// Knows the release that is served now: a change that applies at once makes it another one.
    pub log: EventLog,
    /// Takes what the worker says.
    pub said: Arc<WorkerLog>,
    /// The replicas that it belongs to.
    pub replicas: Weak<Replicas>,
    /// Tells it to end.
    pub termination: Arc<Termination>,
    /// The phases before its start.
    pub wanted: Mutex<Option<StartOrigin>>,
}

/// A worker that takes commands, as its supervisor sees it.
pub struct WatchedWorker {
    process: Process,
    engine: Weak<WorkerEngine>,
    log: Log,
}

/// The silence of a worker, as far as it was watched, and the calls that wait for it.
struct Silence {
    length: Duration,
    calls: usize,
    /// How long a ping has been unanswered.
    unanswered: Option<Duration>,
}

impl Supervisor {
    /// Starts the worker, or adopts it; returns when it takes commands.
    ///
    /// # Errors
    /// When it does not come so far.
    pub fn start(&self) -> Result<(Replica, WatchedWorker), FailedStart> {
        let started = Instant::now();
        let (running, how) = match self.adopt {
            true => (self.adopt_worker()?, "taken over from an earlier service"),
            false => (self.start_worker()?, "started"),
        };
        let Running { process, engine, log } = running;
        let text = format!(
            "process {} is {how}, after {:.2} s",
            process.id,
            started.elapsed().as_secs_f64()
        );
        self.log.happened(self.replica, EventKind::WorkerReady, text);
        let engine = Arc::new(engine);
        let (memory, untouched) = (engine.ready.memory, engine.ready.untouched);
        let replica = Replica {
            number: self.replica,
            incarnation: self.incarnation,
            process: Some(process.id),
            ..self.plan.run_by(engine.clone(), memory, untouched)
        };
        let worker = WatchedWorker {
            process,
            engine: Arc::downgrade(&engine),
            log,
        };
        Ok((replica, worker))
    }

    fn adopt_worker(&self) -> Result<Running, FailedStart> {
        self.workers
            .adopt(self.incarnation, &self.endpoint, self.listener(None))
    }

    fn start_worker(&self) -> Result<Running, FailedStart> {
        self.store.record_incarnation(IncarnationRecord {
            incarnation: self.incarnation,
            endpoint: self.endpoint.clone(),
            release: self.log.release(),
            replica: self.replica,
            version: env!("CARGO_PKG_VERSION").into(),
            at_ms: milliseconds_since_1970(),
        });
        let config = WorkerConfig {
            endpoint: self.endpoint.clone(),
            release: self.log.release(),
            replica: self.replica,
            incarnation: self.incarnation,
            assignment: self.plan.assignment.clone(),
            taken: self.plan.taken.clone(),
        };
        let words = TokenTable {
            pieces: self.model.tokenizer.pieces().clone(),
            ends: self.answer_settings.end_ids.clone(),
        };
        let wanted = self.wanted.lock().unwrap_or_else(PoisonError::into_inner).take();
        let phases = PhaseClock::start(wanted);
        let listener = self.listener(Some(phases.clone()));
        let limit = self
            .replicas
            .upgrade()
            .and_then(|replicas| replicas.terms().longest_start);
        let given_up = || self.termination.is_ending();
        let started = self.workers.start(config, words, limit, listener, &given_up);
        self.keep_start(&phases, started.as_ref().err());
        if let Err(failed_start) = &started {
            self.said.add(self.replica, self.incarnation, &failed_start.last_words);
        }
        started
    }

    /// Keeps how long the phases of a start took.
    fn keep_start(&self, phases: &PhaseClock, failure: Option<&FailedStart>) {
        let times = phases.times();
        self.store.record_start(StartRecord {
            at_ms: milliseconds_since_1970(),
            endpoint: self.endpoint.clone(),
            release: self.log.release(),
            replica: self.replica,
            incarnation: self.incarnation,
            seconds: times.iter().map(|time| time.seconds).sum(),
            phases: serde_json::to_string(&times).unwrap_or_default(),
            failure: failure.map(|failed_start| failed_start.why.clone()),
        });
    }

    /// Returns what hears how a worker gets on.
    fn listener(&self, phases: Option<PhaseClock>) -> impl FnMut(StartProgress) + Send + 'static {
        let (reserved, starting, replica) = (self.plan.reserved.clone(), self.replicas.clone(), self.replica);
        move |progress| match progress {
            StartProgress::Given(bytes) => reserved.given(bytes),
            StartProgress::Phase(phase) => {
                phases.iter().for_each(|phases| phases.enters(phase));
                if let Some(replicas) = starting.upgrade() {
                    replicas.comes_back(replica, ReplicaState::Starting(phase));
                }
            }
        }
    }

    /// Watches the worker to its end, which it returns.
    pub fn watch(&self, mut worker: WatchedWorker) -> Exit {
        let (mut hung, mut is_draining) = (None, false);
        let (mut watched, mut owed, began) = (Watched::default(), Watched::default(), Instant::now());
        self.termination.attach(&worker.engine);
        loop {
            let engine = worker.engine.upgrade().filter(|_| !self.termination.is_ending());
            let Some(engine) = engine else {
                let (_, _, produced) = self.reap(worker, END_LIMIT);
                return Exit::ended_by_service(produced);
            };
            if let Some(cores) = &self.plan.cores {
                engine.spin(cores.are_its_own());
            }
            let end = engine.wait_for_end(LOOK);
            self.close_when_late();
            if let Some(until) = self.termination.renewal() {
                if !std::mem::replace(&mut is_draining, true)
                    && let Some(replicas) = self.replicas.upgrade()
                {
                    replicas.comes_back(self.replica, ReplicaState::Draining);
                }
                // Requests that run longer continue on the next worker.
                if Instant::now() >= until {
                    engine.end();
                }
            }
            let status = engine.status();
            let now = began.elapsed();
            let watched_since = |watched: &mut Watched, since: Instant| {
                watched.look(now, since.saturating_duration_since(began), MOST_BETWEEN_LOOKS)
            };
            let silence = Silence {
                length: watched_since(&mut watched, engine.silent_since()),
                calls: engine.unanswered(),
                unanswered: engine.ping().map(|since| watched_since(&mut owed, since)),
            };
            let has_failed = engine.has_failed();
            drop(engine);
            self.repeat(&mut worker.log);
            if let Some(why) = end.filter(|_| !self.termination.is_ending()) {
                let (finish, last_words, produced) = self.reap(worker, EXIT_LIMIT);
                if is_draining && hung.is_none() {
                    return Exit::ended_by_service(true);
                }
                // A worker that has reported a failure may still exit with success.
                let finish = if has_failed { Finish::Code(FAILED) } else { finish };
                return exit(hung, why, finish, last_words, produced || status.output_tokens > 0);
            }
            hung = hung.or_else(|| self.kill_if_hung(&worker, &silence, &status));
        }
    }

    /// Returns the exit of a worker whose supervisor failed: nothing is left of the worker.
    pub fn exit_after_fault(&self) -> Exit {
        self.workers.kill_starting(self.incarnation);
        self.termination.end_now();
        self.workers.forget(self.incarnation);
        Exit {
            cause: Some("failed"),
            why: "its watcher ended with a fault of the program; the service's log has the reason".into(),
            produced: false,
            last_words: Vec::new(),
        }
    }

    /// Ends calls with an error whose time is over.
    fn close_when_late(&self) {
        if self.termination.is_late() {
            if let Some(replicas) = self.replicas.upgrade() {
                replicas.close();
            }
            self.termination.end_now();
        }
    }

    /// Kills a worker that hangs; returns why.
    fn kill_if_hung(&self, worker: &WatchedWorker, silence: &Silence, status: &EngineStatus) -> Option<String> {
        let Silence {
            length,
            calls,
            unanswered,
        } = *silence;
        let pace = Pace {
            steps: status.steps,
            tokens: status.prefill_tokens + status.output_tokens,
            seconds: status.busy,
            first_token: first_token(
                self.model.description.parameters(),
                self.plan.cores.as_ref().map_or(1, |cores| cores.threads()),
                self.plan.device.is_simulated(),
            ),
        };
        let expected = pace.expected(status.step_tokens);
        // An idle worker owes at most one step; before the first, its time is a guess.
        let longest = pace.expected(self.plan.assignment.limits.step_budget);
        let longest = longest.min(self.workers.hang_after.as_secs_f64());
        if let Some(unanswered) = unanswered.filter(|unanswered| is_frozen(*unanswered, longest)) {
            worker.process.kill();
            let seconds = unanswered.as_secs();
            return Some(format!("it hung: its engine did not answer a ping for {seconds} s"));
        }
        if !is_hung(length, calls > 0, self.workers.hang_after, expected) {
            return None;
        }
        worker.process.kill();
        let calls = if calls == 1 {
            "1 call".into()
        } else {
            format!("{calls} calls")
        };
        Some(format!(
            "it hung: it said nothing for {} s with {calls} under way",
            length.as_secs()
        ))
    }

    /// Writes the output of a worker to the log.
    fn repeat(&self, log: &mut Log) -> Vec<String> {
        let lines = log.lines().unwrap_or_default();
        self.said.add(self.replica, self.incarnation, &lines);
        for line in &lines {
            tracing::info!(
                endpoint = self.endpoint,
                release = self.log.release(),
                replica = self.replica,
                "{line}"
            );
        }
        lines
    }

    /// Waits for the end of a worker and removes what it leaves; returns how it ended, its last words, and whether it produced a token.
    fn reap(&self, worker: WatchedWorker, limit: Duration) -> (Finish, Vec<String>, bool) {
        let WatchedWorker {
            process,
            engine,
            mut log,
        } = worker;
        let mut produced = false;
        if let Some(engine) = engine.upgrade() {
            produced = engine.status().output_tokens > 0;
            engine.end();
        }
        let finish = process.finish(limit);
        // Its memory is available until the next worker takes it.
        self.plan.reserved.lies_in_memory(0);
        let mut said = self.repeat(&mut log);
        self.workers.forget(self.incarnation);
        (finish, said.split_off(said.len().saturating_sub(LAST_WORDS)), produced)
    }
}

/// Returns how a worker ended unexpectedly.
fn exit(hung: Option<String>, why: String, finish: Finish, last_words: Vec<String>, produced: bool) -> Exit {
    let last = last_words.last();
    let said = last.map_or_else(String::new, |last| format!("; the last that it said is: {last}"));
    let (cause, why) = match (hung, finish) {
        (Some(why), _) => ("hung", why),
        (None, Finish::Signal(_)) => ("killed", format!("{finish}{said}")),
        (None, Finish::Code(FAILED)) => ("failed", why),
        (None, _) => ("exited", format!("{finish}{said}")),
    };
    Exit {
        cause: Some(cause),
        why,
        produced,
        last_words,
    }
}
