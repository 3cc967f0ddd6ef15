//! The shell of the decider: it gives events to the decider and carries out its actions, without ever waiting for one.

use super::jobs_of_changes::{Accepted, ChangeJob, Ended};
use super::note::Note;
use super::over::Over;
use super::preparation::{Making, Preparation};
use super::terms::{Action, Change, Decided, Decider, Event, SpecText, Write};
use super::worker_life::{FIRST, WorkerLife};
use super::writes::{Task, Writes, number};
use super::{Message, Parts, guard};
use crate::builds::Wish;
use crate::ending::Ending;
use crate::endpoint::Endpoint;
use crate::endpoints::View;
use crate::event_log::{EventLog, SERVICE, START};
use crate::jobs::Job;
use crate::room::RoomNow;
use crate::standing::{Life, NotReady};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::oneshot;
use vastrelay_fleet::State;
use vastrelay_fleet::decider::{
    ActionId, Failure, Generation, Goal, Incarnation, Left, Millis, Outcome, Prepared, Refused, Rest, RunId, Stage,
    Start, Stored, Taken,
};
use vastrelay_serving::assignment::Place;
use vastrelay_serving::worker::Duty;
use vastrelay_serving::worker::protocol::Phase;
use vastrelay_serving::{Device, Sizing};
use vastrelay_store::{JobRecord, Standing};
use vastrelay_wire::manage::EventKind;

/// How long the placement of the first endpoints waits for the preparation of all of them.
const FIRST_PREPARATIONS: Duration = Duration::from_millis(200);

/// Incarnations after which a worker that is gone is forgotten.
const MOST_GONE: u64 = 1_000;

/// The decider with all that its actions need.
pub(super) struct Shell {
    decider: Decider,
    began: Instant,
    /// Workers of an earlier service that are known and not told of yet.
    found: Option<Vec<Duty>>,
    parts: Arc<Parts>,
    inbox: Sender<Message>,
    writes: Writes,
    changes: BTreeMap<Generation, ChangeJob>,
    /// Changes whose place another one takes as soon as it is written, by that one.
    replacing: BTreeMap<Generation, Generation>,
    /// Jobs that are over and whose end is being written, by the action; a removal is over when that is written.
    ending: BTreeMap<ActionId, EndingJob>,
    /// Changes that are over, to be reported after the next publication.
    untold: Vec<(Generation, ChangeJob, Outcome)>,
    preparations: BTreeMap<ActionId, Preparing>,
    runs: BTreeMap<RunId, RunObject>,
    lives: BTreeMap<Incarnation, LifeState>,
    notes: BTreeMap<String, Note>,
}

enum Preparing {
    /// Whether it was given up.
    UnderWay(Arc<AtomicBool>),
    Over(Result<Arc<Preparation>, Failure>),
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

enum LifeState {
    There {
        run: RunId,
        ending: Arc<Ending>,
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
            ending: BTreeMap::new(),
            untold: Vec::new(),
            preparations: BTreeMap::new(),
            runs: BTreeMap::new(),
            lives: BTreeMap::new(),
            notes: BTreeMap::new(),
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
    pub fn begins_with(&mut self, stored: Vec<Stored<SpecText>>, jobs: Vec<(ChangeJob, JobRecord)>) {
        for one in &stored {
            let note = self.notes.entry(one.name.clone()).or_default();
            note.at_start = true;
            let spec = one.desired.as_ref().map(|desired| &desired.spec);
            spec.into_iter().for_each(|spec| note.waits_as_in(&one.name, spec));
            if one.parked {
                note.parked = "it was parked when the service was started".into();
                note.is_kept_as_parked = true;
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
    pub fn finds(&mut self, duties: Vec<Duty>) {
        self.found = Some(duties);
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
        let Some(duties) = self.found.take() else { return };
        for duty in &duties {
            if let Place::Simulated { profile, .. } = &duty.assignment.place {
                let (count, memory) = (profile.count, profile.memory_bytes());
                self.decider.add_device(&profile.name, count, memory, None);
            }
        }
        let left = duties.into_iter().map(|duty| Left {
            endpoint: duty.endpoint,
            incarnation: duty.incarnation,
            worker: duty.assignment.worker(),
            taken: duty.taken,
        });
        self.handle(Event::Found(left.collect()));
    }

    /// Takes the request for a change.
    pub fn wishes(
        &mut self,
        (name, by): (String, String),
        generation: Generation,
        change: Change,
        answer: oneshot::Sender<Result<Accepted, Refused>>,
    ) {
        if let Change::Deploy { spec, .. } = &change {
            self.notes.entry(name.clone()).or_default().waits_as_in(&name, spec);
        }
        let was_served = self.parts.endpoints.get(&name).is_ok();
        let job = ChangeJob::new(&name, &by, &change, was_served, Some(answer));
        self.changes.insert(generation, job);
        self.handle(Event::Wished {
            name,
            generation,
            change,
        });
    }

    /// Takes a call for an endpoint without a replica.
    pub fn is_called(&mut self, name: String, by: String) {
        let is_parked = |endpoint: &Decided| endpoint.rest == Some(Rest::Parked);
        if self.decider.endpoints().get(&name).is_some_and(is_parked) {
            self.notes.entry(name.clone()).or_default().called_by = Some(by);
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
            for way in &prepared.ways {
                self.know(&way.sizing.settings().device);
            }
        }
        let summary = summary_of(&result);
        self.preparations.insert(id, Preparing::Over(result));
        self.handle(Event::Prepared { id, result: summary });
    }

    /// Takes whether a worker takes calls.
    pub fn is_started(&mut self, run: RunId, incarnation: Incarnation, result: Result<(), Over>) {
        let failure = match &result {
            Ok(()) => {
                if let Some(LifeState::There { is_ready, .. }) = self.lives.get_mut(&incarnation) {
                    *is_ready = true;
                }
                None
            }
            Err(over) => {
                let name = self
                    .runs
                    .get(&run)
                    .map(|object| object.name.clone())
                    .unwrap_or_default();
                over.last_words.iter().for_each(|line| self.says(&name, line));
                self.is_gone(incarnation, over);
                Some(start_failure(over))
            }
        };
        self.handle(Event::Started {
            run,
            incarnation,
            result: failure.map_or(Ok(()), Err),
        });
        if let Err(over) = result {
            self.tell_of_death(run, incarnation, &over);
        }
    }

    /// Takes that a worker is gone.
    pub fn is_over(&mut self, run: RunId, incarnation: Incarnation, over: &Over) {
        self.is_gone(incarnation, over);
        let crew = self.runs.get(&run).map(|object| object.endpoint.crew.clone());
        let has_calls = crew.is_some_and(|crew| !crew.is_closed() && !crew.leases().is_free());
        self.handle(Event::Gone {
            incarnation,
            produced: over.produced,
            calls: has_calls && over.cause.is_some(),
            why: over.why.clone(),
        });
        self.tell_of_death(run, incarnation, over);
    }

    fn is_gone(&mut self, incarnation: Incarnation, over: &Over) {
        let (why, produced) = (over.why.clone(), over.produced);
        self.lives.insert(incarnation, LifeState::Gone { why, produced });
        // The decider no longer refers to incarnations this old.
        let old = self.decider.last_incarnation().saturating_sub(MOST_GONE);
        self.lives
            .retain(|incarnation, life| *incarnation >= old || matches!(life, LifeState::There { .. }));
    }

    /// Takes an event as it is.
    pub fn handle(&mut self, event: Event) {
        let wrote = match &event {
            Event::Wrote { id, result: Ok(()) } => self.ending.remove(id),
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
        // Calls must no longer reach a run by the time its worker gets the order to end.
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
        for (incarnation, life) in &self.lives {
            if let LifeState::There { ending, .. } = life {
                ending.tell();
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
                let event = match self.lives.get(&incarnation) {
                    Some(LifeState::There { .. }) => Event::Seen { incarnation },
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

    fn write(&mut self, id: ActionId, write: Write) {
        let task = match &write {
            Write::Accept {
                generation, replaces, ..
            } => {
                let Some(change) = self.changes.get_mut(generation) else {
                    return;
                };
                let job = match &change.job {
                    Some(job) => job.record(),
                    None => {
                        let record = change.record(number(*generation));
                        let job = add_job(&self.parts, &self.inbox, record, *generation);
                        change.job = Some(job.clone());
                        job.record()
                    }
                };
                let replaced = replaces.and_then(|replaced| {
                    self.replacing.insert(*generation, replaced);
                    let outcome = Outcome::Replaced { by: *generation };
                    let change = self.changes.get(&replaced)?;
                    Some(change.ended(number(replaced), &outcome))
                });
                Task::Begin {
                    id,
                    job: Box::new(job),
                    replaced,
                    write,
                }
            }
            Write::End {
                name,
                generation,
                outcome,
                ..
            } => {
                // A transaction that failed is written again.
                if let Some(change) = self.changes.remove(generation) {
                    self.end_job(id, *generation, name, change, outcome);
                }
                let Some(EndingJob { ended, .. }) = self.ending.get(&id) else {
                    return;
                };
                let ended = ended.clone();
                Task::End { id, write, ended }
            }
            Write::Became { .. } => Task::Became { id, write },
        };
        // The thread that writes ends with the service.
        let _ = self.writes.send(task);
    }

    /// Notes how a change ended, before that is written.
    fn end_job(&mut self, id: ActionId, generation: Generation, name: &str, change: ChangeJob, outcome: &Outcome) {
        let ended = change.ended(number(generation), outcome);
        if let Outcome::GivenUp { failure } = outcome
            && change.kind == "deploy"
        {
            self.parts.endpoints.note_failed(name, failure.why.clone());
        }
        let mut removal = None;
        match change.kind {
            "remove" => removal = Some((change, outcome.clone())),
            _ => self.untold.push((generation, change, outcome.clone())),
        }
        self.ending.insert(id, EndingJob { ended, removal });
    }

    fn answer(&mut self, generation: Generation, accepted: Result<(), Refused>) {
        let replaced = self.replacing.remove(&generation);
        let is_accepted = accepted.is_ok();
        if let Some(change) = self.changes.get_mut(&generation) {
            change.answers(accepted);
        }
        match is_accepted {
            true => {
                let replaced = replaced.and_then(|replaced| Some((replaced, self.changes.remove(&replaced)?)));
                if let Some((replaced, change)) = replaced {
                    self.untold
                        .push((replaced, change, Outcome::Replaced { by: generation }));
                }
                self.put_down(generation);
            }
            false => {
                self.changes.remove(&generation);
                self.parts.jobs.forget(number(generation));
            }
        }
    }

    /// Puts down that a change is under way.
    fn put_down(&mut self, generation: Generation) {
        let Some(change) = self.changes.get(&generation) else {
            return;
        };
        let (name, by) = (change.name.clone(), change.by.clone());
        let underway = self
            .decider
            .endpoints()
            .get(&name)
            .and_then(|endpoint| endpoint.change.clone());
        let Some(underway) = underway.filter(|underway| underway.generation == generation) else {
            return;
        };
        let who = |verb: &str| match by.as_str() {
            "" => format!("somebody has {verb} it"),
            SERVICE => "its time is over (`stop_after`)".into(),
            by => format!("{by} has {verb} it"),
        };
        let seconds = |within: Millis| Duration::from_millis(within).as_secs_f64();
        let note = self.notes.entry(name.clone()).or_default();
        let (what, why) = match underway.change {
            Change::Stop { within } => {
                note.stopped = who("stopped");
                let mut text = format!("requests have {} s to end", seconds(within));
                if by == SERVICE {
                    text.push_str("; its time is over (`stop_after`)");
                }
                (EventKind::Stopped, text)
            }
            Change::Park { .. } => {
                note.parked = who("parked");
                (EventKind::Parked, note.parked.clone())
            }
            Change::Renew { within } => {
                let text = format!("requests have {} s to end where they are", seconds(within));
                (EventKind::Renewed, text)
            }
            Change::Remove => (EventKind::Removed, "its running answers are completed".into()),
            // The start of their worker records these.
            Change::Deploy { .. } | Change::Start => return,
        };
        self.log_of(&name).done_by(&by, what, why);
    }

    /// Returns what puts down what happens to an endpoint, also to one that is not served.
    fn log_of(&self, name: &str) -> EventLog {
        let object = self.runs.values().rev().find(|object| object.name == name);
        object.map_or_else(
            || EventLog::new(&self.parts.store, name, 0),
            |object| object.log.clone(),
        )
    }

    fn prepare(&mut self, id: ActionId, name: String, spec: SpecText) {
        match self.preparations.get(&id) {
            Some(Preparing::UnderWay(_)) => return,
            Some(Preparing::Over(result)) => {
                let result = summary_of(result);
                return self.post(Event::Prepared { id, result });
            }
            None => {}
        }
        self.says(&name, "its model is opened");
        let given_up = Arc::new(AtomicBool::new(false));
        self.preparations.insert(id, Preparing::UnderWay(given_up.clone()));
        let (parts, inbox) = (self.parts.clone(), self.inbox.clone());
        let work = move || {
            let result = guard("a preparation", || prepare(&parts, &name, &spec, &given_up));
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

    fn start(&mut self, start: Start) {
        let Start {
            run,
            incarnation,
            adopt,
            ..
        } = start;
        let known = match self.lives.get(&incarnation) {
            Some(LifeState::There { is_ready: true, .. }) => Some(Ok(())),
            Some(LifeState::There { is_ready: false, .. }) => return,
            Some(LifeState::Gone { why, .. }) => Some(Err(Failure::worker(why.clone()))),
            None => None,
        };
        if let Some(result) = known {
            return self.post(Event::Started {
                run,
                incarnation,
                result,
            });
        }
        let name = start.name.clone();
        if let Err(failure) = self.begin_worker(start) {
            let why = failure.why.clone();
            let produced = false;
            self.lives.insert(incarnation, LifeState::Gone { why, produced });
            if adopt {
                self.end_left(incarnation, None);
            }
            tracing::error!(endpoint = name, why = failure.why, "a worker cannot be started");
            self.post(Event::Started {
                run,
                incarnation,
                result: Err(failure),
            });
        }
    }

    /// Begins the life of a worker.
    fn begin_worker(&mut self, start: Start) -> Result<(), Failure> {
        let Start {
            run,
            name,
            release,
            prepared,
            incarnation,
            adopt,
            taken,
        } = start;
        let Some(Preparing::Over(Ok(preparation))) = self.preparations.get(&prepared) else {
            return Err(Failure::worker("its preparation was given up".into()));
        };
        let preparation = preparation.clone();
        let Some(workers) = self.parts.loader.workers.clone() else {
            return Err(Failure::other("this service has no workers".into()));
        };
        let is_new = !self.runs.contains_key(&run);
        if is_new {
            let log = EventLog::new(&self.parts.store, &name, release);
            let endpoint = endpoint_of(&name, release, &preparation, taken, adopt)?;
            self.put_down_start(run, &name, &preparation, &log);
            let object = RunObject {
                name: name.clone(),
                endpoint: Arc::new(endpoint.logged_by(log.clone())),
                log,
                shown: None,
            };
            self.runs.insert(run, object);
        }
        let RunObject { endpoint, log, .. } = &self.runs[&run];
        let (endpoint, log) = (endpoint.clone(), log.clone());
        let ending = Arc::new(Ending::default());
        endpoint.crew.is_kept_by(ending.clone());
        endpoint.crew.comes_back(FIRST, Life::Starting(Phase::StartingWorker));
        self.says(&name, &format!("worker {incarnation} starts"));
        let life = WorkerLife {
            workers: workers.clone(),
            store: self.parts.store.clone(),
            endpoint: name.clone(),
            replica: FIRST,
            incarnation,
            adopt,
            plan: endpoint.plan.clone(),
            model: endpoint.model.clone(),
            manner: endpoint.manner.clone(),
            log,
            said: self.parts.endpoints.worker_log(&name),
            crew: Arc::downgrade(&endpoint.crew),
            ending: ending.clone(),
            wanted: Mutex::new(is_new.then_some((preparation.wanted, preparation.built))),
        };
        let uses = preparation.settle(&life.plan.taken).filter(|_| is_new);
        let inbox = self.inbox.clone();
        let lives = move || {
            if guard("a worker's life", || live(&life, run, release, uses, &inbox)).is_none() {
                let over = life.ends_with_a_fault();
                let _ = inbox.send(Message::Over(run, life.incarnation, over));
            }
        };
        workers
            .run_life(lives)
            .map_err(|error| Failure::other(format!("the system refuses a thread: {error}")))?;
        let life = LifeState::There {
            run,
            ending,
            is_ready: false,
        };
        self.lives.insert(incarnation, life);
        Ok(())
    }

    /// Puts down why a run starts.
    fn put_down_start(&mut self, run: RunId, name: &str, preparation: &Preparation, log: &EventLog) {
        let change = self.decider.endpoints().get(name).and_then(|endpoint| {
            let change = endpoint.change.as_ref()?;
            (change.run == Some(run)).then_some(change.generation)
        });
        let change = change.and_then(|generation| self.changes.get(&generation));
        let note = self.notes.entry(name.to_owned()).or_default();
        let at_start = std::mem::take(&mut note.at_start);
        let called_by = note.called_by.take();
        let (what, by) = match (change, called_by) {
            (Some(change), _) if change.kind == "deploy" => (EventKind::Deployed, change.by.clone()),
            (Some(change), _) => (EventKind::Started, change.by.clone()),
            (None, Some(by)) => (EventKind::Unparked, by),
            (None, None) if at_start => (EventKind::Deployed, START.to_owned()),
            (None, None) => (EventKind::Started, SERVICE.to_owned()),
        };
        let from = format!("from {}", preparation.order.model().display());
        log.done_by(&by, what, from);
    }

    /// Lets a run answer calls as a new release that differs from the old release only in how it answers calls.
    fn serve(&mut self, run: RunId, release: u32, prepared: ActionId) {
        let Some(Preparing::Over(Ok(preparation))) = self.preparations.get(&prepared) else {
            return;
        };
        let preparation = preparation.clone();
        let Some(object) = self.runs.get_mut(&run) else { return };
        let old = object.endpoint.clone();
        let opened = &preparation.opened;
        if old.release == release && old.made_of() == Some(&opened.made_of) {
            return;
        }
        let next = Endpoint::with_crew_of(&old, release)
            .made_of_this(opened.made_of.clone(), old.machine().clone())
            .read_from(opened.files.path())
            .minded(opened.manner.clone(), opened.made_of.upkeep);
        let log = object.log.clone();
        log.goes_on_as(release);
        let next = Arc::new(next.logged_by(log.clone()));
        next.takes_the_crew();
        object.endpoint = next;
        let by = self
            .changes
            .values()
            .find(|change| change.name == object.name)
            .map(|change| change.by.clone());
        let by = by.unwrap_or_else(|| preparation.order.by.clone());
        log.done_by(&by, EventKind::Deployed, "at once: its worker stays");
    }

    fn close(&mut self, id: ActionId, run: RunId) {
        let object = self
            .runs
            .get(&run)
            .map(|object| (object.name.clone(), object.endpoint.clone(), object.log.clone()));
        let closed = object.is_some_and(|(name, endpoint, log)| {
            let idle_for = endpoint.upkeep.idle_after.unwrap_or_default().as_secs_f64();
            let why = format!("no calls for {idle_for} s");
            let closed = self.parts.endpoints.close_idle(&endpoint, why.clone());
            if closed {
                log.done_by(SERVICE, EventKind::Parked, why.clone());
                self.notes.entry(name).or_default().parked = why;
            }
            closed
        });
        self.post(Event::Closed { id, closed });
    }

    fn end_worker(&mut self, incarnation: Incarnation, within: Option<Duration>, moves: bool) {
        let workers = self.parts.loader.workers.clone();
        match self.lives.get(&incarnation) {
            Some(LifeState::There {
                ending,
                is_ready: false,
                ..
            }) => {
                ending.tell();
                workers.iter().for_each(|workers| workers.kill_starting(incarnation));
            }
            Some(LifeState::There { ending, .. }) if moves => ending.renew(within.unwrap_or_default()),
            Some(LifeState::There { ending, run, .. }) => {
                let crew = self.runs.get(run).map(|object| object.endpoint.crew.clone());
                within.into_iter().for_each(|within| ending.ends_calls_within(within));
                match crew {
                    Some(crew) if ending.waits_for_calls() => {
                        let ending = ending.clone();
                        crew.leases().when_free(move || ending.tell());
                    }
                    // It waits already.
                    Some(_) => {}
                    None => ending.tell(),
                }
            }
            Some(LifeState::Gone { .. }) => {
                let gone = self.gone(incarnation);
                self.post(gone);
            }
            None => self.end_left(incarnation, Some(self.gone(incarnation))),
        }
    }

    /// Ends a worker of an earlier service, which takes a while, and reports an event then.
    fn end_left(&self, incarnation: Incarnation, then: Option<Event>) {
        let (workers, inbox) = (self.parts.loader.workers.clone(), self.inbox.clone());
        let end = move || {
            workers.iter().for_each(|workers| _ = workers.end_found(incarnation));
            if let Some(event) = then {
                let _ = inbox.send(Message::Event(event));
            }
        };
        if let Err(error) = std::thread::Builder::new().name("end".into()).spawn(end) {
            tracing::warn!(%error, "a worker of an earlier service is not ended yet");
        }
    }

    fn forget(&mut self, name: String) {
        self.notes.remove(&name);
        self.parts.endpoints.forget_log(&name);
        let change = self.changes.values().find(|change| change.name == name);
        let job = change.and_then(|change| change.job.clone());
        let _ = self.writes.send(Task::Forget { name, job });
    }

    fn gone(&self, incarnation: Incarnation) -> Event {
        let (why, produced) = match self.lives.get(&incarnation) {
            Some(LifeState::Gone { why, produced }) => (why.clone(), *produced),
            _ => ("it is no more".into(), false),
        };
        Event::Gone {
            incarnation,
            produced,
            calls: false,
            why,
        }
    }

    fn post(&self, event: Event) {
        // The inbox is read as long as this lives.
        let _ = self.inbox.send(Message::Event(event));
    }

    /// Puts down a phase of the change of an endpoint.
    fn says(&self, name: &str, line: &str) {
        let underway = self
            .decider
            .endpoints()
            .get(name)
            .and_then(|endpoint| endpoint.change.as_ref());
        let change = underway.and_then(|underway| self.changes.get(&underway.generation));
        change.into_iter().for_each(|change| change.says(line));
    }

    /// Records the unexpected end of a worker.
    fn tell_of_death(&self, run: RunId, incarnation: Incarnation, over: &Over) {
        let Some(cause) = over.cause else { return };
        let Some(object) = self.runs.get(&run) else { return };
        let runs = self
            .decider
            .endpoints()
            .get(&object.name)
            .map(|endpoint| &endpoint.runs);
        let found = runs.and_then(|runs| runs.iter().find(|one| one.id == run));
        let pause = found.and_then(|run| match run.stage {
            Stage::Pausing { until, .. } => Some(until.saturating_sub(self.now()).div_ceil(1_000)),
            Stage::Starting { .. } => Some(0),
            _ => None,
        });
        tracing::error!(
            endpoint = object.name,
            release = object.endpoint.release,
            replica = FIRST,
            incarnation,
            cause,
            early_deaths = found.map_or(0, |run| run.deaths.early()),
            next_life_in = pause,
            last_words = over.last_words.join(" | "),
            "a worker is gone: {}",
            over.why
        );
        object.endpoint.crew.terms().counted.worker_gone(cause);
        let next = match pause {
            None => String::new(),
            Some(0) => "; the next one is started now".into(),
            Some(seconds) => format!("; the next one is started in {seconds} s"),
        };
        let text = format!("{cause}: {}{next}", over.why);
        object.log.happened(FIRST, EventKind::WorkerGone, text);
    }

    // --- what others see ---

    /// Shows how all endpoints stand.
    fn publish(&mut self) {
        self.show_stages();
        let decider = &self.decider;
        self.notes.retain(|name, _| decider.endpoints().contains_key(name));
        let mut view = View {
            room: Some(RoomNow {
                ledgers: self.decider.ledgers().clone(),
                frees_soon: self.decider.frees_soon(),
            }),
            ..View::default()
        };
        let mut parked = Vec::new();
        for (name, endpoint) in self.decider.endpoints() {
            let object = |run: Option<RunId>| run.and_then(|run| self.runs.get(&run)).map(|run| run.endpoint.clone());
            let current = object(endpoint.current);
            let coming = endpoint.change.as_ref().and_then(|change| object(change.run));
            let is_parked = endpoint.rest == Some(Rest::Parked);
            if endpoint.rest.is_some()
                && let Some(note) = self.notes.get_mut(name)
            {
                note.at_start = false;
            }
            parked.push((name.clone(), is_parked));
            let note = self.notes.get(name);
            // A first deployment is served from the moment on at which it has its place, so that calls wait for it.
            let served = match &current {
                Some(current) => Some(current.clone()),
                None if endpoint.desired.is_none() => coming.clone(),
                None => None,
            };
            match served {
                Some(served) => {
                    if let Some(coming) = coming.filter(|coming| !Arc::ptr_eq(coming, &served)) {
                        view.coming.insert(name.clone(), coming);
                    }
                    view.served.insert(name.clone(), served);
                }
                None => {
                    let state = endpoint.state();
                    let why = why_not_served(endpoint, state, note);
                    let longest = note.and_then(|note| note.longest_wait);
                    coming
                        .into_iter()
                        .for_each(|coming| _ = view.coming.insert(name.clone(), coming));
                    view.resting.insert(name.clone(), (state, why, longest));
                }
            }
        }
        self.keep_parked(parked);
        self.parts.endpoints.show(view);
    }

    /// Lets go of runs that the decider has dropped; calls that still wait for one of them end. Returns whether there were any.
    fn drop_runs(&mut self) -> bool {
        let all = self.decider.endpoints().values();
        let runs: BTreeSet<RunId> = all.flat_map(|endpoint| &endpoint.runs).map(|run| run.id).collect();
        let gone: Vec<RunId> = self.runs.keys().filter(|id| !runs.contains(id)).copied().collect();
        for id in &gone {
            let Some(object) = self.runs.remove(id) else { continue };
            let why = self
                .why_dropped(&object.name)
                .map_or(NotReady::Closed, NotReady::GivenUp);
            object.endpoint.crew.close_because(why);
        }
        !gone.is_empty()
    }

    /// Returns why a run of an endpoint could not be started, where that is the reason of its end.
    fn why_dropped(&self, name: &str) -> Option<String> {
        let given_up = self.untold.iter().find_map(|(_, change, outcome)| match outcome {
            Outcome::GivenUp { failure } if change.name == name => Some(failure.why.clone()),
            _ => None,
        });
        given_up.or_else(|| match &self.decider.endpoints().get(name)?.rest {
            Some(Rest::Failed { why, .. }) => Some(why.clone()),
            _ => None,
        })
    }

    /// Shows on replicas what their runs are about, where that has changed.
    fn show_stages(&mut self) {
        let now = self.now();
        for endpoint in self.decider.endpoints().values() {
            for run in &endpoint.runs {
                let Some(object) = self.runs.get_mut(&run.id) else {
                    continue;
                };
                if let (Some(hold), Some(cores)) = (&run.hold, &object.endpoint.plan.cores) {
                    cores.set_share(self.decider.ledgers().cores_of(hold));
                }
                if object.shown.as_ref() == Some(&run.stage) {
                    continue;
                }
                let crew = &object.endpoint.crew;
                match &run.stage {
                    Stage::Pausing { until, why } if run.deaths.is_loop() => {
                        let pause = Duration::from_millis(until.saturating_sub(now));
                        crew.comes_back(FIRST, Life::failed(why.clone(), pause, run.deaths.is_hopeless()));
                    }
                    Stage::Pausing { .. } => crew.comes_back(FIRST, Life::Starting(Phase::StartingWorker)),
                    Stage::Ending { .. } if run.goal == Goal::Serve => crew.comes_back(FIRST, Life::Draining),
                    _ => {}
                }
                object.shown = Some(run.stage.clone());
            }
        }
    }

    /// Keeps which endpoints are parked, for the next service.
    fn keep_parked(&mut self, parked: Vec<(String, bool)>) {
        for (name, is_parked) in parked {
            let note = self.notes.entry(name.clone()).or_default();
            if note.is_kept_as_parked == is_parked {
                continue;
            }
            note.is_kept_as_parked = is_parked;
            let is_stopped = self
                .decider
                .endpoints()
                .get(&name)
                .and_then(|endpoint| endpoint.desired.as_ref())
                .is_none_or(|desired| !desired.serving);
            let standing = match is_parked {
                true => Standing::Parked,
                false if is_stopped => continue,
                false => Standing::Served,
            };
            let _ = self.writes.send(Task::Stand { name, standing });
        }
    }
}

/// Returns the endpoint of a run that has its place.
fn endpoint_of(
    name: &str,
    release: u32,
    preparation: &Preparation,
    taken: Taken,
    is_there: bool,
) -> Result<Endpoint, Failure> {
    let way = preparation.way(&taken);
    let way = way.ok_or_else(|| Failure::other(format!("there is no device `{}`", taken.device)))?;
    let plan = way.sizing.place(taken, is_there);
    let plan = plan.map_err(|error| error.failure())?;
    let opened = &preparation.opened;
    let endpoint = Endpoint::new(name, release, opened.model.clone(), Arc::new(plan))
        .made_of_this(opened.made_of.clone(), way.machine.clone())
        .read_from(opened.files.path())
        .minded(opened.manner.clone(), opened.made_of.upkeep);
    endpoint.takes_the_crew();
    Ok(endpoint)
}

/// Returns why an endpoint is not served, for people.
fn why_not_served(endpoint: &Decided, state: State, note: Option<&Note>) -> String {
    match (&endpoint.rest, state) {
        (Some(Rest::Failed { why, again: None }), _) => why.clone(),
        (Some(Rest::Failed { why, again: Some(_) }), _) => format!("{why}; it is tried again by itself"),
        (Some(Rest::Parked), _) => note.map(|note| note.parked.clone()).unwrap_or_default(),
        (None, State::Stopped | State::Draining) => note.map(Note::why_stopped).unwrap_or_default(),
        (None, _) => phase_of(endpoint).into(),
    }
}

/// Returns how far an endpoint is that has no place yet.
fn phase_of(endpoint: &Decided) -> &'static str {
    let change = endpoint.change.as_ref().and_then(|change| change.run);
    let run = endpoint.current.or(change).and_then(|run| endpoint.run(run));
    match run.map(|run| &run.stage) {
        Some(Stage::Preparing(_)) => "its model is being prepared",
        Some(Stage::Waiting { .. }) => "it waits for memory",
        _ => "it is being started",
    }
}

/// Opens what a spec names, makes builds and sizes replicas.
fn prepare(parts: &Parts, name: &str, spec: &SpecText, given_up: &AtomicBool) -> Result<Preparation, Failure> {
    let log = parts.endpoints.worker_log(name);
    let making = Making {
        room: &|| parts.endpoints.room(),
        wish: Wish {
            given_up: &|| given_up.load(Ordering::Acquire),
            hears: &|lines| log.says(0, 0, lines),
        },
    };
    let opened = parts.loader.open_spec(name, spec, &parts.opening)?;
    parts.loader.prepare(opened, making)
}

/// Runs the life of a worker, and reports its beginning and its end.
fn live(life: &WorkerLife, run: RunId, release: u32, uses: Option<String>, inbox: &Sender<Message>) {
    if let Some(digest) = uses
        && let Err(error) = life.store.note_use_of_build(&digest, &life.endpoint, release)
    {
        tracing::warn!(endpoint = life.endpoint, %error, "the use of its build is not kept");
    }
    let tell = |message| _ = inbox.send(message);
    match life.begin() {
        Ok((replica, begun)) => {
            if let Some(crew) = life.crew.upgrade() {
                crew.place(replica);
            }
            tell(Message::Started(run, life.incarnation, Ok(())));
            let over = life.watch(begun);
            tell(Message::Over(run, life.incarnation, over));
        }
        Err(stillborn) => tell(Message::Started(run, life.incarnation, Err(stillborn.into()))),
    }
}

/// Returns why a worker did not start, with its last words.
fn start_failure(over: &Over) -> Failure {
    let said = match over.last_words.is_empty() {
        true => String::new(),
        false => format!("; it said: {}", over.last_words.join(" | ")),
    };
    Failure::worker(format!("{}{said}", over.why))
}

fn summary_of(result: &Result<Arc<Preparation>, Failure>) -> Result<Prepared<Sizing>, Failure> {
    let summary = result.as_ref().map(|prepared| prepared.summary());
    summary.map_err(Failure::clone)
}

/// Takes in the job of a change; cancelling it withdraws the change.
fn add_job(parts: &Parts, inbox: &Sender<Message>, record: JobRecord, generation: Generation) -> Arc<Job> {
    let inbox = Mutex::new(inbox.clone());
    let withdraw = move || {
        if let Ok(inbox) = inbox.lock() {
            let _ = inbox.send(Message::Event(Event::Withdrawn { generation }));
        }
    };
    parts.jobs.add(record, Some(Instant::now()), withdraw)
}
