//! Workers: their starts and ends, and the runs that they belong to.

use super::{Preparing, RunObject, Shell, WorkerState};
use crate::control_loop::Message;
use crate::control_loop::exit::Exit;
use crate::control_loop::preparation::Preparation;
use crate::control_loop::supervisor::{FIRST, Supervisor};
use crate::control_loop::terms::Event;
use crate::endpoints::endpoint::Endpoint;
use crate::events::{EventLog, SERVICE, START};
use crate::replicas::state::ReplicaState;
use crate::replicas::termination::Termination;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use vastrelay_fleet::decider::{ActionId, Failure, Incarnation, RunId, Stage, Start, Taken};
use vastrelay_serving::worker::protocol::StartPhase;
use vastrelay_wire::manage::EventKind;

impl Shell {
    pub(super) fn start(&mut self, start: Start) {
        let Start {
            run,
            incarnation,
            adopt,
            ..
        } = start;
        let known = match self.worker_states.get(&incarnation) {
            Some(WorkerState::There { is_ready: true, .. }) => Some(Ok(())),
            Some(WorkerState::There { is_ready: false, .. }) => return,
            Some(WorkerState::Gone { why, .. }) => Some(Err(Failure::worker(why.clone()))),
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
        if let Err(failure) = self.start_worker(start) {
            let why = failure.why.clone();
            let produced = false;
            self.worker_states
                .insert(incarnation, WorkerState::Gone { why, produced });
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

    /// Starts a worker and its supervisor.
    fn start_worker(&mut self, start: Start) -> Result<(), Failure> {
        let Start {
            run,
            name,
            release,
            prepared,
            incarnation,
            adopt,
            taken,
        } = start;
        let Some(Preparing::Done(Ok(preparation))) = self.preparations.get(&prepared) else {
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
        let termination = Arc::new(Termination::default());
        endpoint.replicas.supervise_with(termination.clone());
        endpoint
            .replicas
            .comes_back(FIRST, ReplicaState::Starting(StartPhase::StartingWorker));
        self.log(&name, &format!("worker {incarnation} starts"));
        let supervisor = Supervisor {
            workers: workers.clone(),
            store: self.parts.store.clone(),
            endpoint: name.clone(),
            replica: FIRST,
            incarnation,
            adopt,
            plan: endpoint.plan.clone(),
            model: endpoint.model.clone(),
            answer_settings: endpoint.answer_settings.clone(),
            log,
            said: self.parts.endpoints.worker_log(&name),
            replicas: Arc::downgrade(&endpoint.replicas),
            termination: termination.clone(),
            wanted: Mutex::new(is_new.then_some((preparation.wanted, preparation.built))),
        };
        let uses = preparation.settle(&supervisor.plan.taken).filter(|_| is_new);
        let (parts, inbox) = (self.parts.clone(), self.inbox.clone());
        let supervise_it = move || {
            let work = || supervise(&supervisor, run, release, uses, &inbox);
            if parts.guard("a worker's supervisor", work).is_none() {
                let exit = supervisor.exit_after_fault();
                let _ = inbox.send(Message::Exited(run, supervisor.incarnation, exit));
            }
        };
        workers
            .supervise(supervise_it)
            .map_err(|error| Failure::other(format!("the system refuses a thread: {error}")))?;
        let state = WorkerState::There {
            run,
            termination,
            is_ready: false,
        };
        self.worker_states.insert(incarnation, state);
        Ok(())
    }

    /// Puts down why a run starts.
    fn put_down_start(&mut self, run: RunId, name: &str, preparation: &Preparation, log: &EventLog) {
        let change = self.decider.endpoints().get(name).and_then(|endpoint| {
            let change = endpoint.change.as_ref()?;
            (change.run == Some(run)).then_some(change.generation)
        });
        let change = change.and_then(|generation| self.changes.get(&generation));
        let reasons = self.reasons.entry(name.to_owned()).or_default();
        let at_start = std::mem::take(&mut reasons.at_start);
        let called_by = reasons.called_by.take();
        let (what, by) = match (change, called_by) {
            (Some(change), _) if change.kind == "deploy" => (EventKind::Deployed, change.by.clone()),
            (Some(change), _) => (EventKind::Started, change.by.clone()),
            (None, Some(by)) => (EventKind::Unparked, by),
            (None, None) if at_start => (EventKind::Deployed, START.to_owned()),
            (None, None) => (EventKind::Started, SERVICE.to_owned()),
        };
        let from = format!("from {}", preparation.request.model().display());
        log.done_by(&by, what, from);
    }

    /// Lets a run answer calls as a new release that differs from the old release only in how it answers calls.
    pub(super) fn serve(&mut self, run: RunId, release: u32, prepared: ActionId) {
        let Some(Preparing::Done(Ok(preparation))) = self.preparations.get(&prepared) else {
            return;
        };
        let preparation = preparation.clone();
        let Some(object) = self.runs.get_mut(&run) else { return };
        let old = object.endpoint.clone();
        let opened = &preparation.opened;
        if old.release == release && old.release_fingerprint() == Some(&opened.fingerprint) {
            return;
        }
        let next = Endpoint::with_replicas_of(&old, release)
            .with_fingerprint(opened.fingerprint.clone(), old.machine().clone())
            .read_from(opened.files.path())
            .answering(opened.answer_settings.clone(), opened.fingerprint.upkeep);
        let log = object.log.clone();
        log.goes_on_as(release);
        let next = Arc::new(next.logged_by(log.clone()));
        next.belongs_to_replicas();
        object.endpoint = next;
        let by = self
            .changes
            .values()
            .find(|change| change.name == object.name)
            .map(|change| change.by.clone());
        let by = by.unwrap_or_else(|| preparation.request.by.clone());
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
                self.reasons.entry(name).or_default().parked = why;
            }
            closed
        });
        self.post(Event::Closed { id, closed });
    }

    pub(super) fn end_worker(&mut self, incarnation: Incarnation, within: Option<Duration>, moves: bool) {
        let workers = self.parts.loader.workers.clone();
        match self.worker_states.get(&incarnation) {
            Some(WorkerState::There {
                termination,
                is_ready: false,
                ..
            }) => {
                termination.end_now();
                workers.iter().for_each(|workers| workers.kill_starting(incarnation));
            }
            Some(WorkerState::There { termination, .. }) if moves => termination.renew(within.unwrap_or_default()),
            Some(WorkerState::There { termination, run, .. }) => {
                let replicas = self.runs.get(run).map(|object| object.endpoint.replicas.clone());
                within
                    .into_iter()
                    .for_each(|within| termination.ends_calls_within(within));
                match replicas {
                    Some(replicas) if termination.waits_for_calls() => {
                        let termination = termination.clone();
                        replicas.leases().when_free(move || termination.end_now());
                    }
                    // It waits already.
                    Some(_) => {}
                    None => termination.end_now(),
                }
            }
            Some(WorkerState::Gone { .. }) => {
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
        let (why, produced) = match self.worker_states.get(&incarnation) {
            Some(WorkerState::Gone { why, produced }) => (why.clone(), *produced),
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
    pub(super) fn record_exit(&self, run: RunId, incarnation: Incarnation, exit: &Exit) {
        let Some(object) = self.runs.get(&run) else { return };
        let said = self.parts.endpoints.worker_log(&object.name);
        let Some(cause) = exit.cause else {
            said.add(FIRST, incarnation, &[format!("(the worker ended: {})", exit.why)]);
            return;
        };
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
            early_exits = found.map_or(0, |run| run.early_exits.early()),
            next_start_in = pause,
            last_words = exit.last_words.join(" | "),
            "a worker is gone: {}",
            exit.why
        );
        object.endpoint.replicas.terms().counters.worker_gone(cause);
        let next = match pause {
            None => String::new(),
            Some(0) => "; the next one is started now".into(),
            Some(seconds) => format!("; the next one is started in {seconds} s"),
        };
        let text = format!("{cause}: {}{next}", exit.why);
        said.add(FIRST, incarnation, &[format!("(the worker ended: {text})")]);
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
    let option = preparation.option(&taken);
    let option = option.ok_or_else(|| Failure::other(format!("there is no device `{}`", taken.device)))?;
    let plan = option.sizing.place(taken, is_there);
    let plan = plan.map_err(|error| error.failure())?;
    let opened = &preparation.opened;
    let endpoint = Endpoint::new(name, release, opened.model.clone(), Arc::new(plan))
        .with_fingerprint(opened.fingerprint.clone(), option.machine.clone())
        .read_from(opened.files.path())
        .answering(opened.answer_settings.clone(), opened.fingerprint.upkeep);
    endpoint.belongs_to_replicas();
    Ok(endpoint)
}

/// Supervises a worker, and reports its start and its exit.
fn supervise(supervisor: &Supervisor, run: RunId, release: u32, uses: Option<String>, inbox: &Sender<Message>) {
    if let Some(digest) = uses
        && let Err(error) = supervisor
            .store
            .note_use_of_build(&digest, &supervisor.endpoint, release)
    {
        tracing::warn!(endpoint = supervisor.endpoint, %error, "the use of its build is not kept");
    }
    let send = |message| _ = inbox.send(message);
    match supervisor.start() {
        Ok((replica, worker)) => {
            if let Some(replicas) = supervisor.replicas.upgrade() {
                replicas.place(replica);
            }
            send(Message::Started(run, supervisor.incarnation, Ok(())));
            let exit = supervisor.watch(worker);
            send(Message::Exited(run, supervisor.incarnation, exit));
        }
        Err(failed_start) => send(Message::Started(run, supervisor.incarnation, Err(failed_start.into()))),
    }
}

/// Returns why a worker did not start, with its last words.
pub(super) fn start_failure(exit: &Exit) -> Failure {
    let said = match exit.last_words.is_empty() {
        true => String::new(),
        false => format!("; it said: {}", exit.last_words.join(" | ")),
    };
    Failure::worker(format!("{}{said}", exit.why))
}
