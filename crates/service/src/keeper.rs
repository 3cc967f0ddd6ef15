//! Keeps a replica alive: starts its worker, watches it, and begins its next life when it is gone.

use crate::cold_start::{PhaseClock, Wanted};
use crate::crew::Crew;
use crate::event_log::EventLog;
use crate::manner::Manner;
use crate::records::Records;
use crate::standing::Life;
use crate::stop::Stop;
use crate::worker_log::WorkerLog;
use crate::workers::{Running, Stillborn, Workers};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};
use vastrelay_engine::EngineStatus;
use vastrelay_fleet::hang::{Pace, Watched, first_token, is_frozen, is_hung};
use vastrelay_fleet::restart::Deaths;
use vastrelay_serving::process::{Finish, Log, Process};
use vastrelay_serving::worker::FAILED;
use vastrelay_serving::worker::client::Progress;
use vastrelay_serving::worker::protocol::{Phase, Words};
use vastrelay_serving::worker::{Duty, WorkerEngine};
use vastrelay_serving::{Generate, LoadError, Model, Plan, Replica};
use vastrelay_store::{IncarnationRecord, StartRecord, milliseconds_since_1970};
use vastrelay_wire::manage::EventKind;

/// The number of an endpoint's first replica.
pub(crate) const FIRST: u32 = 1;
/// Time between two looks at a worker.
const LOOK: Duration = Duration::from_millis(250);
/// Most of the time between two looks that counts as silence: where it is more, the service itself did not run.
const MOST_BETWEEN_LOOKS: Duration = Duration::from_secs(1);
/// How long a worker may take to end that was told to.
const END_LIMIT: Duration = Duration::from_secs(3);
/// How long one may take to end that says nothing any more.
const DEATH_LIMIT: Duration = Duration::from_secs(1);
/// Lines of a dead worker that are shown.
const LAST_WORDS: usize = 5;

/// What begins lives of a replica.
pub(crate) struct Starter {
    pub workers: Arc<Workers>,
    pub plan: Arc<Plan>,
    pub model: Arc<Model>,
    pub manner: Arc<Manner>,
    pub begins: Begins,
    pub log: EventLog,
    /// Takes what workers say.
    pub said: Arc<WorkerLog>,
    /// What came before the first life; taken by that.
    pub wanted: Mutex<Option<Wanted>>,
}

/// Whose lives begin.
pub(crate) struct Begins {
    pub records: Arc<Records>,
    pub endpoint: String,
    /// Knows the release that is served now: a change that applies at once makes it another one.
    pub log: EventLog,
    /// The replica's number.
    pub replica: u32,
}

/// A life that has begun, as its keeper sees it.
pub(crate) struct Begun {
    process: Process,
    engine: Weak<WorkerEngine>,
    log: Log,
    incarnation: u64,
}

/// The silence of a worker, as far as it was watched, and the calls that wait for it.
struct Silence {
    length: Duration,
    calls: usize,
    /// How long a ping has been unanswered.
    unanswered: Option<Duration>,
}

/// Why a life is over.
enum Over {
    /// Nobody needs it any more.
    Told,
    /// Somebody wants another worker in its place.
    Renewed,
    /// Nobody wanted it.
    Died(End),
}

/// How a life ended that nobody ended.
struct End {
    why: String,
    cause: &'static str,
    /// Whether it produced a token.
    produced: bool,
    last_words: Vec<String>,
}

impl Begins {
    /// Returns the number of a new life, which was never used. A database that cannot be written keeps no worker from its start.
    pub fn incarnation(&self) -> u64 {
        self.records.store.begin_incarnation(IncarnationRecord {
            endpoint: self.endpoint.clone(),
            release: self.log.release(),
            replica: self.replica,
            version: env!("CARGO_PKG_VERSION").into(),
            at_ms: milliseconds_since_1970(),
            ..IncarnationRecord::default()
        })
    }
}

impl Starter {
    /// Starts a worker for an endpoint's replica, or adopts one of an earlier service; returns when it takes orders.
    ///
    /// # Errors
    /// When it does not come so far.
    pub fn begin(&self, of: &Weak<Crew>) -> Result<(Replica, Begun), Stillborn> {
        let Begins {
            endpoint, log, replica, ..
        } = &self.begins;
        let duty = |incarnation| Duty {
            endpoint: endpoint.clone(),
            release: log.release(),
            replica: *replica,
            incarnation,
            assignment: self.plan.assignment.clone(),
        };
        let begun = Instant::now();
        let wanted = self.wanted.lock().unwrap_or_else(PoisonError::into_inner).take();
        let taken_over = self.workers.take_over(&duty(0), self.listener(of, None));
        let how = if taken_over.is_some() {
            "taken over from an earlier service"
        } else {
            "started"
        };
        let (running, incarnation) = match taken_over {
            Some((running, incarnation)) => {
                self.begins.records.store.note_incarnation(incarnation);
                (running, incarnation)
            }
            None => {
                let incarnation = self.begins.incarnation();
                let words = Words {
                    pieces: self.model.tokenizer.pieces().clone(),
                    ends: self.manner.end_ids.clone(),
                };
                let phases = PhaseClock::begin(wanted);
                let listener = self.listener(of, Some(phases.clone()));
                let limit = of.upgrade().and_then(|crew| crew.terms().longest_start);
                let started = self.workers.start(duty(incarnation), words, limit, listener);
                self.keep_start(incarnation, &phases, started.as_ref().err());
                if let Err(stillborn) = &started {
                    self.said.says(self.begins.replica, incarnation, &stillborn.last_words);
                }
                (started?, incarnation)
            }
        };
        let Running { process, engine, log } = running;
        let text = format!(
            "process {} is {how}, after {:.2} s",
            process.id,
            begun.elapsed().as_secs_f64()
        );
        self.log.happened(*replica, EventKind::WorkerReady, text);
        let engine = Arc::new(engine);
        let (memory, untouched) = (engine.ready.memory, engine.ready.untouched);
        let replica = Replica {
            number: self.begins.replica,
            incarnation,
            process: Some(process.id),
            ..self.plan.run_by(engine.clone(), memory, untouched)
        };
        let begun = Begun {
            process,
            engine: Arc::downgrade(&engine),
            log,
            incarnation,
        };
        Ok((replica, begun))
    }

    /// Keeps how long the phases of a start took.
    fn keep_start(&self, incarnation: u64, phases: &PhaseClock, failure: Option<&Stillborn>) {
        let times = phases.times();
        self.begins.records.store.record_start(StartRecord {
            at_ms: milliseconds_since_1970(),
            endpoint: self.begins.endpoint.clone(),
            release: self.begins.log.release(),
            replica: self.begins.replica,
            incarnation,
            seconds: times.iter().map(|time| time.seconds).sum(),
            phases: serde_json::to_string(&times).unwrap_or_default(),
            failure: failure.map(|stillborn| stillborn.why.clone()),
        });
    }

    /// Returns what hears how a worker gets on.
    fn listener(&self, of: &Weak<Crew>, phases: Option<PhaseClock>) -> impl FnMut(Progress) + Send + 'static {
        let (resident, starting, replica) = (self.plan.held.resident().clone(), of.clone(), self.begins.replica);
        move |progress| match progress {
            Progress::Given(bytes) => _ = resident.fetch_add(bytes, Ordering::Relaxed),
            Progress::Phase(phase) => {
                phases.iter().for_each(|phases| phases.enters(phase));
                if let Some(crew) = starting.upgrade() {
                    crew.comes_back(replica, Life::Starting(phase));
                }
            }
        }
    }

    /// Keeps the replica of an endpoint alive until it is told to stop.
    pub fn keep(&self, crew: &Weak<Crew>, first: Result<Begun, Stillborn>, stop: &Stop) {
        let (mut deaths, mut life) = (Deaths::default(), first);
        loop {
            let over = match life {
                Ok(begun) => self.outlive(begun, crew, stop),
                Err(stillborn) => Over::Died(End::from(stillborn)),
            };
            let pause = match over {
                Over::Told => return,
                Over::Renewed => self.renewed(crew),
                Over::Died(end) => self.died(end, &mut deaths, crew),
            };
            let Some(pause) = pause else { return };
            if stop.within(pause) {
                return;
            }
            life = self.next_life(crew);
        }
    }

    /// Says that a worker was drained; returns the pause before the next life, or nothing where nobody needs one.
    fn renewed(&self, crew: &Weak<Crew>) -> Option<Duration> {
        tracing::info!(
            endpoint = self.begins.endpoint,
            replica = self.begins.replica,
            "a worker was drained; the next one is started"
        );
        let next = Life::Starting(Phase::StartingWorker);
        crew.upgrade()?.comes_back(self.begins.replica, next);
        Some(Duration::ZERO)
    }

    /// Says that a worker is gone; returns the pause before the next life, or nothing where nobody needs one.
    fn died(&self, end: End, deaths: &mut Deaths, crew: &Weak<Crew>) -> Option<Duration> {
        let pause = deaths.note(end.produced);
        tracing::error!(
            endpoint = self.begins.endpoint,
            release = self.begins.log.release(),
            replica = self.begins.replica,
            cause = end.cause,
            early_deaths = deaths.early(),
            next_life_in = pause.as_secs(),
            last_words = end.last_words.join(" | "),
            "a worker is gone: {}",
            end.why
        );
        let crew = crew.upgrade()?;
        crew.terms().counted.worker_gone(end.cause);
        let next = match pause.as_secs() {
            0 => "now".into(),
            seconds => format!("in {seconds} s"),
        };
        let text = format!("{}: {}; the next one is started {next}", end.cause, end.why);
        self.log.happened(self.begins.replica, EventKind::WorkerGone, text);
        let next = if deaths.is_loop() {
            Life::failed(end.why, pause, deaths.is_hopeless())
        } else {
            Life::Starting(Phase::StartingWorker)
        };
        crew.comes_back(self.begins.replica, next);
        Some(pause)
    }

    /// Begins the next life and puts it in its place.
    fn next_life(&self, crew: &Weak<Crew>) -> Result<Begun, Stillborn> {
        self.begin(crew).map(|(replica, begun)| {
            // Whoever was removed meanwhile lets go of the worker, which ends it.
            if let Some(crew) = crew.upgrade() {
                crew.place(replica);
            }
            begun
        })
    }

    /// Watches a life to its end.
    fn outlive(&self, mut begun: Begun, crew: &Weak<Crew>, stop: &Stop) -> Over {
        let (mut hung, mut is_draining) = (None, false);
        let (mut watched, mut owed, began) = (Watched::default(), Watched::default(), Instant::now());
        stop.ends(&begun.engine);
        loop {
            let engine = begun.engine.upgrade().filter(|_| !stop.is_set());
            let Some(engine) = engine else {
                self.bury(begun, END_LIMIT);
                return Over::Told;
            };
            if let Some(cores) = &self.plan.cores {
                engine.spin(cores.are_its_own());
            }
            let end = engine.wait_for_end(LOOK);
            if let Some(until) = stop.renewal() {
                if !std::mem::replace(&mut is_draining, true)
                    && let Some(crew) = crew.upgrade()
                {
                    crew.comes_back(self.begins.replica, Life::Draining);
                }
                // What has not ended by then goes on with the next one.
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
            self.repeat(begun.incarnation, &mut begun.log);
            if let Some(why) = end.filter(|_| !stop.is_set()) {
                let (finish, last_words) = self.bury(begun, DEATH_LIMIT);
                if is_draining && hung.is_none() {
                    return Over::Renewed;
                }
                // Whoever has said why it fails may still end as it is told to.
                let finish = if has_failed { Finish::Code(FAILED) } else { finish };
                return Over::Died(End::new(hung, why, finish, last_words, status.output_tokens > 0));
            }
            hung = hung.or_else(|| self.kill_if_hung(&begun, &silence, &status));
        }
    }

    /// Kills a worker that hangs; returns why.
    fn kill_if_hung(&self, begun: &Begun, silence: &Silence, status: &EngineStatus) -> Option<String> {
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
            begun.process.kill();
            let seconds = unanswered.as_secs();
            return Some(format!("it hung: its engine did not answer a ping for {seconds} s"));
        }
        if !is_hung(length, calls > 0, self.workers.hang_after, expected) {
            return None;
        }
        begun.process.kill();
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

    /// Writes what a worker has said to the log.
    fn repeat(&self, incarnation: u64, log: &mut Log) -> Vec<String> {
        let lines = log.lines().unwrap_or_default();
        self.said.says(self.begins.replica, incarnation, &lines);
        for line in &lines {
            tracing::info!(
                endpoint = self.begins.endpoint,
                release = self.begins.log.release(),
                replica = self.begins.replica,
                "{line}"
            );
        }
        lines
    }

    /// Waits for the end of a worker and removes what it leaves; returns how it ended and its last words.
    fn bury(&self, begun: Begun, patience: Duration) -> (Finish, Vec<String>) {
        let Begun {
            process,
            engine,
            mut log,
            incarnation,
        } = begun;
        if let Some(engine) = engine.upgrade() {
            engine.end();
        }
        let finish = process.finish(patience);
        // What it held is anybody's until the next life takes it.
        self.plan.held.resident().store(0, Ordering::Relaxed);
        let mut said = self.repeat(incarnation, &mut log);
        self.workers.forget(incarnation);
        (finish, said.split_off(said.len().saturating_sub(LAST_WORDS)))
    }
}

impl End {
    fn new(hung: Option<String>, why: String, finish: Finish, last_words: Vec<String>, produced: bool) -> End {
        let last = last_words.last();
        let said = last.map_or_else(String::new, |last| format!("; the last that it said is: {last}"));
        let (cause, why) = match (hung, finish) {
            (Some(why), _) => ("hung", why),
            (None, Finish::Signal(_)) => ("killed", format!("{finish}{said}")),
            (None, Finish::Code(FAILED)) => ("failed", why),
            (None, _) => ("exited", format!("{finish}{said}")),
        };
        End {
            why,
            cause,
            produced,
            last_words,
        }
    }
}

impl From<Stillborn> for End {
    fn from(stillborn: Stillborn) -> End {
        End {
            why: stillborn.why,
            cause: "not-started",
            produced: false,
            last_words: stillborn.last_words,
        }
    }
}

impl From<&Stillborn> for LoadError {
    fn from(stillborn: &Stillborn) -> LoadError {
        match stillborn.last_words.is_empty() {
            true => LoadError::NotStarted(stillborn.why.clone()),
            false => LoadError::NotStarted(format!(
                "{}; it said: {}",
                stillborn.why,
                stillborn.last_words.join(" | ")
            )),
        }
    }
}
