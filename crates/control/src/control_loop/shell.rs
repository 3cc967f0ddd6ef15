//! The shell of the decider: it gives events to the decider and carries out its actions, without ever waiting for one.
//!
//! | module | question |
//! |---|---|
//! | `changes` | how does a change get its job, its notes and its end? |
//! | `runs` | how do workers start and end? |
//! | `view` | how do calls and readers see the state? |

mod changes;
mod runs;
mod view;

use super::change_jobs::{Accepted, ChangeJob, Ended};
use super::exit::Exit;
use super::preparation::{Making, Preparation};
use super::reasons::Reasons;
use super::terms::{Action, Change, Decided, Decider, Event, SpecText};
use super::writes::{Writes, number};
use super::{Message, Parts};
use crate::builds::BuildRequest;
use crate::endpoints::endpoint::Endpoint;
use crate::events::EventLog;
use crate::replicas::termination::Termination;
use changes::add_job;
use runs::start_failure;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant};
use tokio::sync::oneshot;
use vastrelay_fleet::decider::{
    ActionId, Failure, Generation, Incarnation, Left, Millis, Outcome, Prepared, Refused, Rest, RunId, Stage, Stored,
};
use vastrelay_serving::replicas::assignment::Backend;
use vastrelay_serving::worker::WorkerConfig;
use vastrelay_serving::{Device, Sizing};
use vastrelay_store::JobRecord;

/// How long the placement of the first endpoints waits for the preparation of all of them.
const FIRST_PREPARATIONS: Duration = Duration::from_millis(200);

/// Incarnations after which a worker that is gone is forgotten.
const MOST_GONE: u64 = 1_000;

/// The decider with all that its actions need.
pub(super) struct Shell {
    decider: Decider,
    began: Instant,
    /// Workers of an earlier service that are known and not told of yet.
    found: Option<Vec<WorkerConfig>>,
    parts: Arc<Parts>,
    inbox: Sender<Message>,
    writes: Writes,
    changes: BTreeMap<Generation, ChangeJob>,
    /// Changes whose place another one takes as soon as it is written, by that one.
    replacing: BTreeMap<Generation, Generation>,
    /// Jobs that are over and whose end is being written, by the action; a removal is over when that is written.
    termination: BTreeMap<ActionId, EndingJob>,
    /// Changes that are over, to be reported after the next publication.
    untold: Vec<(Generation, ChangeJob, Outcome)>,
    preparations: BTreeMap<ActionId, Preparing>,
    runs: BTreeMap<RunId, RunObject>,
    worker_states: BTreeMap<Incarnation, WorkerState>,
    reasons: BTreeMap<String, Reasons>,
}

enum Preparing {
    /// Whether it was given up.
    UnderWay(Arc<AtomicBool>),
    Done(Result<Arc<Preparation>, Failure>),
}

/// The end of a job that is being written.
struct EndingJob {
    ended: Ended,
    /// A removal, which is over only then.
    removal: Option<(ChangeJob, Outcome)>,
}

/// A run with a place.
struct RunObject {
    name: String,
    endpoint: Arc<Endpoint>,
    /// Puts down what happens to its endpoint while it is there.
    log: EventLog,
    /// The stage that was shown last of it.
    shown: Option<Stage>,
}

enum WorkerState {
    There {
        run: RunId,
        termination: Arc<Termination>,
        is_ready: bool,
    },
    Gone {
        why: String,
        produced: bool,
    },
}

impl Shell {
    pub fn new(parts: Arc<Parts>, inbox: Sender<Message>, writes: Writes, last_incarnation: Incarnation) -> Shell {
        let mut shell = Shell {
            decider: Decider::new(last_incarnation),
            began: Instant::now(),
            found: None,
            parts,
            inbox,
            writes,
            changes: BTreeMap::new(),
            replacing: BTreeMap::new(),
            termination: BTreeMap::new(),
            untold: Vec::new(),
            preparations: BTreeMap::new(),
            runs: BTreeMap::new(),
            worker_states: BTreeMap::new(),
            reasons: BTreeMap::new(),
        };
        for device in shell.parts.loader.devices.all() {
            shell.know(&device);
        }
        shell
    }

    fn now(&self) -> Millis {
        Millis::try_from(self.began.elapsed().as_millis())
            .unwrap_or(Millis::MAX)
            .saturating_add(1)
    }

    /// Makes a device known to the decider.
    fn know(&mut self, device: &Device) {
        self.decider
            .add_device(device.name(), device.count(), device.total(), device.core_ledger());
    }

    // --- messages ---

    /// Takes up the stored endpoints, and the changes that were under way.
    pub fn start_with(&mut self, stored: Vec<Stored<SpecText>>, jobs: Vec<(ChangeJob, JobRecord)>) {
        for one in &stored {
            let reasons = self.reasons.entry(one.name.clone()).or_default();
            reasons.at_start = true;
            let spec = one.desired.as_ref().map(|desired| &desired.spec);
            spec.into_iter().for_each(|spec| reasons.waits_as_in(&one.name, spec));
            if one.parked {
                reasons.parked = "it was parked when the service was started".into();
                reasons.is_stored_as_parked = true;
            }
        }
        for (mut change, record) in jobs {
            let generation = Generation::try_from(record.number).unwrap_or_default();
            change.job = Some(add_job(&self.parts, &self.inbox, record, generation));
            self.changes.insert(generation, change);
        }
        self.handle(Event::Began(stored));
        self.parts.endpoints.expect_more(false);
    }

    /// Takes the workers that an earlier service has left.
    pub fn finds(&mut self, configs: Vec<WorkerConfig>) {
        self.found = Some(configs);
    }

    /// Returns whether such workers are known and not told of yet.
    pub fn holds_found(&self) -> bool {
        self.found.is_some()
    }

    /// Reports the workers of an earlier service to the decider once the first specs are prepared, so endpoints get their places in the order of
    /// their names. Conversions take too long to wait for.
    pub fn take_found(&mut self) {
        let prepares = self
            .preparations
            .values()
            .any(|one| matches!(one, Preparing::UnderWay(_)));
        if prepares && self.began.elapsed() < FIRST_PREPARATIONS {
            return;
        }
        let Some(configs) = self.found.take() else { return };
        for config in &configs {
            if let Backend::Simulated { profile, .. } = &config.assignment.place {
                let (count, memory) = (profile.count, profile.memory_bytes());
                self.decider.add_device(&profile.name, count, memory, None);
            }
        }
        let left = configs.into_iter().map(|config| Left {
            endpoint: config.endpoint,
            incarnation: config.incarnation,
            worker: config.assignment.worker(),
            taken: config.taken,
        });
        self.handle(Event::Found(left.collect()));
    }

    /// Takes the request for a change.
    pub fn requested(
        &mut self,
        (name, by): (String, String),
        generation: Generation,
        change: Change,
        answer: oneshot::Sender<Result<Accepted, Refused>>,
    ) {
        if let Change::Deploy { spec, .. } = &change {
            self.reasons.entry(name.clone()).or_default().waits_as_in(&name, spec);
        }
        let was_served = self.parts.endpoints.get(&name).is_ok();
        let job = ChangeJob::new(&name, &by, &change, was_served, Some(answer));
        self.changes.insert(generation, job);
        self.handle(Event::Requested {
            name,
            generation,
            change,
        });
    }

    /// Takes a call for an endpoint without a replica.
    pub fn is_called(&mut self, name: String, by: String) {
        let is_parked = |endpoint: &Decided| endpoint.rest == Some(Rest::Parked);
        if self.decider.endpoints().get(&name).is_some_and(is_parked) {
            self.reasons.entry(name.clone()).or_default().called_by = Some(by);
        }
        self.handle(Event::Called { name });
    }

    /// Takes that an endpoint was unused for as long as its spec says.
    pub fn is_idle(&mut self, name: &str) {
        if let Some(run) = self.decider.endpoints().get(name).and_then(|endpoint| endpoint.current) {
            self.handle(Event::Idle { run });
        }
    }

    /// Takes what came of preparing a spec.
    pub fn is_prepared(&mut self, id: ActionId, result: Result<Preparation, Failure>) {
        // One that was abandoned meanwhile is not of use any more.
        if !matches!(self.preparations.get(&id), Some(Preparing::UnderWay(_))) {
            return;
        }
        let result = result.map(Arc::new);
        if let Ok(prepared) = &result {
            for option in &prepared.options {
                self.know(&option.sizing.settings().device);
            }
        }
        let summary = summary_of(&result);
        self.preparations.insert(id, Preparing::Done(result));
        self.handle(Event::Prepared { id, result: summary });
    }

    /// Takes whether a worker takes calls.
    pub fn is_started(&mut self, run: RunId, incarnation: Incarnation, result: Result<(), Exit>) {
        let failure = match &result {
            Ok(()) => {
                if let Some(WorkerState::There { is_ready, .. }) = self.worker_states.get_mut(&incarnation) {
                    *is_ready = true;
                }
                None
            }
            Err(exit) => {
                let name = self
                    .runs
                    .get(&run)
                    .map(|object| object.name.clone())
                    .unwrap_or_default();
                exit.last_words.iter().for_each(|line| self.log(&name, line));
                self.note_exit(incarnation, exit);
                Some(start_failure(exit))
            }
        };
        self.handle(Event::Started {
            run,
            incarnation,
            result: failure.map_or(Ok(()), Err),
        });
        if let Err(exit) = result {
            self.record_exit(run, incarnation, &exit);
        }
    }

    /// Takes that a worker is gone.
    pub fn has_exited(&mut self, run: RunId, incarnation: Incarnation, exit: &Exit) {
        self.note_exit(incarnation, exit);
        let replicas = self.runs.get(&run).map(|object| object.endpoint.replicas.clone());
        let has_calls = replicas.is_some_and(|replicas| !replicas.is_closed() && !replicas.leases().is_free());
        self.handle(Event::Gone {
            incarnation,
            produced: exit.produced,
            calls: has_calls && exit.cause.is_some(),
            why: exit.why.clone(),
        });
        self.record_exit(run, incarnation, exit);
    }

    fn note_exit(&mut self, incarnation: Incarnation, exit: &Exit) {
        let (why, produced) = (exit.why.clone(), exit.produced);
        self.worker_states
            .insert(incarnation, WorkerState::Gone { why, produced });
        // The decider no longer refers to incarnations this old.
        let old = self.decider.last_incarnation().saturating_sub(MOST_GONE);
        self.worker_states
            .retain(|incarnation, state| *incarnation >= old || matches!(state, WorkerState::There { .. }));
    }

    /// Takes an event as it is.
    pub fn handle(&mut self, event: Event) {
        let wrote = match &event {
            Event::Wrote { id, result: Ok(()) } => self.termination.remove(id),
            _ => None,
        };
        if let Some(EndingJob { ended, removal }) = wrote {
            if let Some((change, outcome)) = &removal {
                change.is_over(ended.number, outcome);
            }
            self.parts.jobs.forget(ended.number);
        }
        let now = self.now();
        let actions = self.decider.handle(event, now);
        // Calls must no longer reach a run by the time its worker gets the command to end.
        self.publish();
        let has_acted = !actions.is_empty();
        actions.into_iter().for_each(|action| self.carry_out(action));
        if self.drop_runs() || has_acted {
            self.publish();
        }
        // Publish before reporting an end, so callers see its effect.
        for (generation, change, outcome) in std::mem::take(&mut self.untold) {
            change.is_over(number(generation), &outcome);
            if matches!(outcome, Outcome::Replaced { .. }) {
                self.parts.jobs.forget(number(generation));
            }
        }
    }

    /// Ends all workers: the service ends.
    pub fn end(&mut self) {
        for (incarnation, state) in &self.worker_states {
            if let WorkerState::There { termination, .. } = state {
                termination.end_now();
                if let Some(workers) = &self.parts.loader.workers {
                    workers.kill_starting(*incarnation);
                }
            }
        }
        for preparing in self.preparations.values() {
            if let Preparing::UnderWay(given_up) = preparing {
                given_up.store(true, Ordering::Release);
            }
        }
    }

    // --- actions ---

    fn carry_out(&mut self, action: Action) {
        match action {
            Action::Write { id, write } => self.write(id, write),
            Action::Answer { generation, accepted } => self.answer(generation, accepted),
            Action::Prepare { id, name, spec } => self.prepare(id, name, spec),
            Action::Abandon { id } => self.abandon(id),
            Action::Start(start) => self.start(start),
            Action::Serve {
                run, release, prepared, ..
            } => self.serve(run, release, prepared),
            Action::Close { id, run } => self.close(id, run),
            Action::End {
                incarnation,
                within,
                moves,
                ..
            } => self.end_worker(incarnation, within.map(Duration::from_millis), moves),
            Action::Look { incarnation } => {
                let event = match self.worker_states.get(&incarnation) {
                    Some(WorkerState::There { .. }) => Event::Seen { incarnation },
                    _ => self.gone(incarnation),
                };
                self.post(event);
            }
            Action::Refuse { name, why } => {
                self.parts.endpoints.refuse(&name, why);
            }
            Action::Forget { name } => self.forget(name),
        }
    }

    fn prepare(&mut self, id: ActionId, name: String, spec: SpecText) {
        match self.preparations.get(&id) {
            Some(Preparing::UnderWay(_)) => return,
            Some(Preparing::Done(result)) => {
                let result = summary_of(result);
                return self.post(Event::Prepared { id, result });
            }
            None => {}
        }
        self.log(&name, "its model is opened");
        let given_up = Arc::new(AtomicBool::new(false));
        self.preparations.insert(id, Preparing::UnderWay(given_up.clone()));
        let (parts, inbox) = (self.parts.clone(), self.inbox.clone());
        let work = move || {
            let result = parts.guard("a preparation", || prepare(&parts, &name, &spec, &given_up));
            let result = result.unwrap_or_else(|| {
                let why = "its preparation ended with a fault of the program; the service's log has the reason";
                Err(Failure::other(why.into()))
            });
            let _ = inbox.send(Message::Prepared(id, result.map(Box::new)));
        };
        let thread = std::thread::Builder::new().name("prepare".into()).spawn(work);
        if let Err(error) = thread {
            let failure = Failure::other(format!("the system refuses a thread: {error}"));
            let _ = self.inbox.send(Message::Prepared(id, Err(failure)));
        }
    }

    fn abandon(&mut self, id: ActionId) {
        if let Some(Preparing::UnderWay(given_up)) = self.preparations.remove(&id) {
            given_up.store(true, Ordering::Release);
        }
    }

    fn post(&self, event: Event) {
        // The inbox is read as long as this lives.
        let _ = self.inbox.send(Message::Event(event));
    }
}

/// Opens what a spec names, makes builds and sizes replicas.
fn prepare(parts: &Parts, name: &str, spec: &SpecText, given_up: &AtomicBool) -> Result<Preparation, Failure> {
    let log = parts.endpoints.worker_log(name);
    let making = Making {
        room: &|| parts.endpoints.room(),
        request: BuildRequest {
            given_up: &|| given_up.load(Ordering::Acquire),
            hears: &|lines| log.add(0, 0, lines),
        },
    };
    let opened = parts.loader.open_spec(name, spec, &parts.opening)?;
    parts.loader.prepare(opened, making)
}

fn summary_of(result: &Result<Arc<Preparation>, Failure>) -> Result<Prepared<Sizing>, Failure> {
    let summary = result.as_ref().map(|prepared| prepared.summary());
    summary.map_err(Failure::clone)
}
