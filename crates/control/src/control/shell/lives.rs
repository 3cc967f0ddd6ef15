//! Workers: their starts and ends, and the runs that they belong to.

use super::super::over::Over;
use super::super::preparation::Preparation;
use super::super::terms::Event;
use super::super::worker_life::{FIRST, WorkerLife};
use super::super::{Message, guard};
use super::{LifeState, Preparing, RunObject, Shell};
use crate::ending::Ending;
use crate::endpoint::Endpoint;
use crate::event_log::{EventLog, SERVICE, START};
use crate::standing::Life;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use vastrelay_fleet::decider::{ActionId, Failure, Incarnation, RunId, Stage, Start, Taken};
use vastrelay_serving::worker::protocol::Phase;
use vastrelay_wire::manage::EventKind;

impl Shell {
    pub(super) fn start(&mut self, start: Start) {
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
    pub(super) fn serve(&mut self, run: RunId, release: u32, prepared: ActionId) {
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

    pub(super) fn close(&mut self, id: ActionId, run: RunId) {
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

    pub(super) fn end_worker(&mut self, incarnation: Incarnation, within: Option<Duration>, moves: bool) {
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

    pub(super) fn gone(&self, incarnation: Incarnation) -> Event {
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

    /// Records the unexpected end of a worker.
    pub(super) fn tell_of_death(&self, run: RunId, incarnation: Incarnation, over: &Over) {
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
pub(super) fn start_failure(over: &Over) -> Failure {
    let said = match over.last_words.is_empty() {
        true => String::new(),
        false => format!("; it said: {}", over.last_words.join(" | ")),
    };
    Failure::worker(format!("{}{said}", over.why))
}
