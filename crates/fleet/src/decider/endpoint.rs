//! One endpoint: its desired state, the change under way, and its runs. Events note facts; [`Endpoint::settle`] then returns the actions that
//! follow from the facts.

use super::event::{Change, Failure, Prepared};
use super::room::Holder;
use super::run::{Goal, Run, Stage};
use super::shared::Shared;
use super::{
    Action, ActionId, Desired, Generation, Incarnation, LOOK, Millis, Outcome, PAUSE, RETRY_WRITE, ROOM_WAIT, Refused,
    RunId, START_AGAIN, Start, Terms, Write,
};
use crate::restart::EarlyExits;
use std::collections::VecDeque;
use std::mem::take;
use std::time::Duration;

/// An endpoint.
#[derive(Clone, Debug)]
pub struct Endpoint<T: Terms> {
    pub(super) name: String,
    /// Its desired state; absent before its first deployment has succeeded and after its removal.
    pub desired: Option<Desired<T::Spec>>,
    /// The change under way.
    pub change: Option<Underway<T::Spec>>,
    pub(super) proposals: VecDeque<Proposal<T::Spec>>,
    /// Transactions that have to be written, oldest first.
    pub(super) writes: VecDeque<Write<T::Spec>>,
    pub(super) writing: Option<Writing<T::Spec>>,
    /// Its runs, oldest first.
    pub runs: Vec<Run<T>>,
    /// The run that calls go to, or wait for.
    pub current: Option<RunId>,
    /// The reason why it has no run although its desired state is to serve.
    pub rest: Option<Rest>,
    /// Whether its run is there for a call of a parked endpoint, and has not served yet.
    unparks: bool,
    last_release: u32,
}

/// A change under way.
#[derive(Clone, Debug)]
pub struct Underway<S> {
    /// Its number.
    pub generation: Generation,
    /// The change itself.
    pub change: Change<S>,
    /// The run that it starts, ends or renews.
    pub run: Option<RunId>,
    /// Whether the run that was there has made room.
    pub paused: bool,
    is_begun: bool,
    /// The worker that a renewal replaces.
    before: Option<Incarnation>,
    /// Why it is over, where a newer change is being noted and may take its place.
    given_up: Option<Failure>,
}

/// A change that is not noted yet.
#[derive(Clone, Debug)]
pub(super) struct Proposal<S> {
    pub generation: Generation,
    pub change: Change<S>,
    pub is_withdrawn: bool,
}

/// The end of a worker.
#[derive(Clone, Debug)]
pub(super) struct WorkerEnd {
    /// Whether it produced a token.
    pub produced: bool,
    /// Whether calls that it has not answered wait for another worker.
    pub calls: bool,
    /// Why, for people.
    pub why: String,
}

/// A transaction that is being written.
#[derive(Clone, Debug)]
pub(super) struct Writing<S> {
    pub id: ActionId,
    pub write: Write<S>,
    asked: Millis,
    /// Whether it failed and is tried again some time after it was asked for.
    has_failed: bool,
}

/// Why an endpoint has no run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rest {
    /// It has no calls.
    Parked,
    /// It could not be started.
    Failed {
        /// Why.
        why: String,
        /// When it is tried again; never where the reason does not pass by itself.
        again: Option<Millis>,
    },
}

impl<S> Underway<S> {
    pub(super) fn new(generation: Generation, change: Change<S>) -> Underway<S> {
        Underway {
            generation,
            change,
            run: None,
            paused: false,
            is_begun: false,
            before: None,
            given_up: None,
        }
    }

    /// Returns whether it brings another run.
    pub fn starts(&self) -> bool {
        self.given_up.is_none() && matches!(self.change, Change::Deploy { .. } | Change::Start)
    }
}

impl<T: Terms> Endpoint<T> {
    pub(super) fn new(name: &str) -> Endpoint<T> {
        Endpoint {
            name: name.to_owned(),
            desired: None,
            change: None,
            proposals: VecDeque::new(),
            writes: VecDeque::new(),
            writing: None,
            runs: Vec::new(),
            current: None,
            rest: None,
            unparks: false,
            last_release: 0,
        }
    }

    /// Returns an endpoint from its stored state.
    pub(super) fn stored(stored: super::Stored<T::Spec>) -> Endpoint<T> {
        let change = stored
            .change
            .map(|(generation, change)| Underway::new(generation, change));
        Endpoint {
            last_release: stored
                .desired
                .as_ref()
                .map_or(0, |desired| desired.release)
                .max(stored.last_release),
            desired: stored.desired,
            change,
            rest: stored.parked.then_some(Rest::Parked),
            ..Endpoint::new(&stored.name)
        }
    }

    /// Returns a run by its number.
    pub fn run(&self, id: RunId) -> Option<&Run<T>> {
        self.runs.iter().find(|run| run.id == id)
    }

    pub(super) fn run_mut(&mut self, id: RunId) -> Option<&mut Run<T>> {
        self.runs.iter_mut().find(|run| run.id == id)
    }

    /// Returns the run that calls go to, or wait for.
    pub fn current_run(&self) -> Option<&Run<T>> {
        self.current.and_then(|id| self.run(id))
    }

    /// Returns the run of a worker.
    pub(super) fn run_of(&self, incarnation: Incarnation) -> Option<RunId> {
        let run = self.runs.iter().find(|run| run.incarnation() == Some(incarnation));
        run.map(|run| run.id)
    }

    /// Returns whether nothing is left of it.
    pub(super) fn is_nothing(&self) -> bool {
        self.desired.is_none()
            && self.change.is_none()
            && self.proposals.is_empty()
            && self.writes.is_empty()
            && self.writing.is_none()
            && self.runs.is_empty()
    }

    /// Returns whether memory of it is about to be given back.
    pub(super) fn frees_soon(&self) -> bool {
        self.runs.iter().any(|run| run.is_leaving() && run.hold.is_some())
    }

    /// Returns whether memory of it is given back within a limit, however long its calls last.
    fn frees_in_time(&self) -> bool {
        let mut leaving = self.runs.iter().filter(|run| run.is_leaving() && run.hold.is_some());
        leaving.any(|run| matches!(run.goal, Goal::Leave { within: Some(_) }))
    }

    /// Returns since when a run of it waits for a place.
    pub(super) fn waits_since(&self) -> Option<Millis> {
        let since = self.runs.iter().filter_map(|run| match run.stage {
            Stage::Waiting { since } => Some(since),
            _ => None,
        });
        since.min()
    }

    // --- facts ---

    pub(super) fn propose(&mut self, generation: Generation, change: Change<T::Spec>) {
        self.proposals.push_back(Proposal {
            generation,
            change,
            is_withdrawn: false,
        });
    }

    /// Withdraws a change; returns whether it was there and can be withdrawn.
    pub(super) fn withdraw(&mut self, shared: &mut Shared<T>, generation: Generation) -> bool {
        if let Some(proposal) = self
            .proposals
            .iter_mut()
            .find(|proposal| proposal.generation == generation)
        {
            proposal.is_withdrawn = true;
            return true;
        }
        let is_it = |underway: &Underway<T::Spec>| {
            underway.generation == generation && !matches!(underway.change, Change::Stop { .. } | Change::Remove)
        };
        let there = self.change.as_ref().is_some_and(is_it) && self.writing_accept().is_none();
        if there {
            self.give_up(shared, Failure::cancelled());
        }
        there
    }

    pub(super) fn called(&mut self, shared: &mut Shared<T>) {
        let is_stopped = self.desired.as_ref().is_none_or(|desired| !desired.serving);
        let starts = self.change.as_ref().is_some_and(Underway::starts) || self.is_first();
        match &self.rest {
            _ if starts => {}
            _ if is_stopped => self.refuse_calls(shared, "it is not served"),
            Some(Rest::Parked) => (self.rest, self.unparks) = (None, true),
            Some(Rest::Failed { again: Some(_), .. }) => self.rest = None,
            Some(Rest::Failed { why, again: None }) => {
                let why = why.clone();
                self.refuse_calls(shared, &why);
            }
            None => {}
        }
    }

    pub(super) fn idle(&mut self, shared: &mut Shared<T>, id: RunId) {
        if self.current != Some(id) || self.change.is_some() {
            return;
        }
        let close = shared.action_id();
        if let Some(Run {
            stage: Stage::Serving { closing, .. },
            ..
        }) = self.run_mut(id)
            && closing.is_none()
        {
            *closing = Some(close);
            shared.act(Action::Close { id: close, run: id });
        }
    }

    pub(super) fn closed(&mut self, action: ActionId, closed: bool) {
        for run in &mut self.runs {
            if let Stage::Serving { closing, .. } = &mut run.stage
                && *closing == Some(action)
            {
                *closing = None;
                if closed && self.current == Some(run.id) {
                    run.goal = Goal::Leave { within: None };
                    self.current = None;
                    self.rest = Some(Rest::Parked);
                }
                return;
            }
        }
    }

    pub(super) fn prepared(
        &mut self,
        shared: &mut Shared<T>,
        action: ActionId,
        result: Result<Prepared<T::Need>, Failure>,
    ) {
        let is_it = |run: &Run<T>| run.stage == Stage::Preparing(action);
        let Some(run) = self.runs.iter_mut().find(|run| is_it(run)) else {
            return;
        };
        match result {
            Ok(prepared) => {
                run.prepared = Some((action, prepared));
                run.stage = Stage::Waiting { since: shared.now };
            }
            Err(failure) => {
                let id = run.id;
                self.fail_run(shared, id, failure);
            }
        }
    }

    pub(super) fn started(&mut self, shared: &mut Shared<T>, id: RunId, of: Incarnation, result: Result<(), Failure>) {
        let coming = self.coming();
        let Some(run) = self.run_mut(id) else { return };
        match (&run.stage, result) {
            (Stage::Starting { incarnation, .. }, Ok(())) if *incarnation == of => {
                run.stage = Stage::Serving {
                    incarnation: of,
                    seen: shared.now,
                    closing: None,
                };
                if self.current == Some(id) {
                    self.unparks = false;
                    self.serve(shared, id);
                    self.becomes(id);
                }
            }
            (Stage::Starting { incarnation, adopt }, Err(failure)) if *incarnation == of => match adopt {
                // Nothing was wrong with the run: the worker that was left is no more.
                true => {
                    run.stage = Stage::Pausing {
                        until: shared.now,
                        why: failure.why,
                    }
                }
                false if coming == Some(id) => self.fail_run(shared, id, failure),
                false if run.is_leaving() => self.drop_run(shared, id),
                false => self.pause(shared, id, false, failure.why),
            },
            (Stage::Ending { incarnation }, Err(failure)) if *incarnation == of => {
                let end = WorkerEnd {
                    produced: false,
                    calls: false,
                    why: failure.why,
                };
                self.gone(shared, of, end);
            }
            _ => {}
        }
    }

    /// Notes the release of the current run, which is another one than before where the files that its spec names have changed.
    fn becomes(&mut self, id: RunId) {
        let Some((run, desired)) = self.run(id).zip(self.desired.clone()) else {
            return;
        };
        let identity = run.prepared.as_ref().map(|(_, prepared)| prepared.identity.clone());
        let release = run.release;
        let Some(identity) = identity.filter(|_| release != desired.release && self.change.is_none()) else {
            return;
        };
        self.last_release = self.last_release.max(release);
        let desired = Desired {
            release,
            identity,
            ..desired
        };
        self.desired = Some(desired.clone());
        let name = self.name.clone();
        self.writes.push_back(Write::Became { name, desired });
    }

    /// Notes that a worker is gone, where it was one of a run.
    pub(super) fn gone(&mut self, shared: &mut Shared<T>, of: Incarnation, end: WorkerEnd) {
        let coming = self.coming();
        let Some(id) = self.run_of(of) else { return };
        let WorkerEnd { produced, calls, why } = end;
        let run = self.run_mut(id).expect("it was just found");
        let told = matches!(run.stage, Stage::Ending { .. });
        match run.goal {
            Goal::Leave { .. } if calls && !run.early_exits.is_loop() => {
                run.finishes = true;
                self.pause(shared, id, produced, why);
            }
            Goal::Leave { .. } => self.drop_run(shared, id),
            Goal::Serve if told => {
                run.stage = Stage::Pausing { until: shared.now, why };
            }
            Goal::Serve if coming == Some(id) => {
                let failure = Failure::worker(why);
                self.fail_run(shared, id, failure);
            }
            Goal::Serve => self.pause(shared, id, produced, why),
        }
    }

    pub(super) fn seen(&mut self, now: Millis, of: Incarnation) {
        for run in &mut self.runs {
            if let Stage::Serving { incarnation, seen, .. } = &mut run.stage
                && *incarnation == of
            {
                *seen = now;
            }
        }
    }

    pub(super) fn wrote(&mut self, shared: &mut Shared<T>, action: ActionId, result: Result<(), Failure>) {
        if self.writing.as_ref().is_none_or(|writing| writing.id != action) {
            return;
        }
        let mut writing = self.writing.take().expect("it was just seen");
        let is_accept = matches!(writing.write, Write::Accept { .. });
        match (is_accept, result) {
            (true, result) => {
                let proposal = self.proposals.pop_front().expect("it is being written");
                self.accepted(shared, proposal, result);
            }
            (false, Ok(())) => {}
            (false, Err(_)) => {
                (writing.has_failed, writing.asked) = (true, shared.now);
                self.writing = Some(writing);
            }
        }
    }

    fn accepted(&mut self, shared: &mut Shared<T>, proposal: Proposal<T::Spec>, result: Result<(), Failure>) {
        let generation = proposal.generation;
        if let Err(Failure { why, .. }) = result {
            return shared.act(Action::Answer {
                generation,
                accepted: Err(Refused::NotStored { why }),
            });
        }
        // The change whose place it takes leaves nothing behind but what it has reached.
        if let Some(Underway { run: Some(id), .. }) = self.change.take().filter(Underway::starts)
            && self.current != Some(id)
            && let Some(run) = self.run_mut(id)
        {
            run.goal = Goal::Leave { within: Some(0) };
        }
        self.change = Some(Underway::new(generation, proposal.change));
        shared.act(Action::Answer {
            generation,
            accepted: Ok(()),
        });
        if proposal.is_withdrawn {
            self.withdraw(shared, generation);
        }
    }

    // --- actions that follow from the facts ---

    /// Asks for every action that follows from the facts.
    pub(super) fn settle(&mut self, shared: &mut Shared<T>) {
        // Each pass brings the endpoint nearer to rest; none undoes what another did.
        for _ in 0..8 {
            let before = (
                shared.actions.len(),
                self.runs.len(),
                self.change.is_some(),
                self.current,
            );
            self.begin_change(shared);
            self.start_again(shared);
            self.have_a_run(shared);
            for id in self.runs.iter().map(|run| run.id).collect::<Vec<_>>() {
                self.advance(shared, id);
            }
            self.end_change(shared);
            self.write(shared);
            let after = (
                shared.actions.len(),
                self.runs.len(),
                self.change.is_some(),
                self.current,
            );
            if before == after {
                break;
            }
        }
    }

    /// Returns whether a run of it may still adopt a worker of an earlier service.
    pub(super) fn may_adopt(&self) -> bool {
        self.runs
            .iter()
            .any(|run| !run.is_leaving() && matches!(run.stage, Stage::Preparing(_) | Stage::Waiting { .. }))
    }

    /// Asks again for what has had no answer for long.
    pub(super) fn ask_again(&mut self, shared: &mut Shared<T>) {
        let name = self.name.clone();
        for run in &mut self.runs {
            let is_overdue = shared.is_overdue(run.asked);
            let action = match &run.stage {
                Stage::Serving { incarnation, seen, .. } if shared.now.saturating_sub(*seen) >= LOOK && is_overdue => {
                    Action::Look {
                        incarnation: *incarnation,
                    }
                }
                _ if !is_overdue => continue,
                Stage::Preparing(id) => Action::Prepare {
                    id: *id,
                    name: name.clone(),
                    spec: run.spec.clone(),
                },
                Stage::Starting { .. } => start(&name, run),
                Stage::Ending { .. } => end(run),
                _ => continue,
            };
            run.asked = shared.now;
            shared.act(action);
            if let Stage::Serving { closing: Some(id), .. } = run.stage {
                shared.act(Action::Close { id, run: run.id });
            }
        }
        if let Some(writing) = &mut self.writing {
            let pause = if writing.has_failed {
                RETRY_WRITE
            } else {
                super::ASK_AGAIN
            };
            if shared.now.saturating_sub(writing.asked) >= pause {
                (writing.asked, writing.has_failed) = (shared.now, false);
                shared.act(Action::Write {
                    id: writing.id,
                    write: writing.write.clone(),
                });
            }
        }
    }

    fn begin_change(&mut self, shared: &mut Shared<T>) {
        let Some(underway) = self.change.as_mut().filter(|underway| !underway.is_begun) else {
            return;
        };
        underway.is_begun = true;
        let (generation, change) = (underway.generation, underway.change.clone());
        match change {
            Change::Deploy { spec, .. } => {
                let run = self.add_run(shared, generation, spec);
                self.set_change_run(Some(run));
            }
            Change::Start => {
                self.rest = None;
                let spec = self.desired.as_ref().map(|desired| desired.spec.clone());
                let run = match (self.current, spec) {
                    (Some(current), _) => Some(current),
                    (None, Some(spec)) => Some(self.add_run(shared, generation, spec)),
                    (None, None) => None,
                };
                self.set_change_run(run);
            }
            Change::Stop { within } => {
                if let Some(desired) = &mut self.desired {
                    (desired.serving, desired.generation) = (false, generation);
                }
                self.leave(Some(within));
                self.refuse_calls(shared, "it was stopped");
            }
            Change::Remove => {
                self.desired = None;
                self.leave(None);
                self.refuse_calls(shared, "it was removed");
            }
            Change::Park { within } => {
                let run = self.current.take();
                if let Some(run) = run.and_then(|id| self.run_mut(id)) {
                    run.goal = Goal::Leave { within: Some(within) };
                }
                self.set_change_run(run);
                self.rest = Some(Rest::Parked);
            }
            Change::Renew { .. } => self.begin_renewal(shared),
        }
    }

    fn begin_renewal(&mut self, shared: &mut Shared<T>) {
        let Some(id) = self.current else {
            return self.give_up(shared, Failure::other("it has no worker".into()));
        };
        self.set_change_run(Some(id));
        let within = match self.change.as_ref().map(|underway| &underway.change) {
            Some(Change::Renew { within }) => *within,
            _ => 0,
        };
        let now = shared.now;
        let Some(run) = self.run_mut(id) else { return };
        let before = match run.stage {
            Stage::Serving { incarnation, .. } | Stage::Ending { incarnation } => Some(incarnation),
            _ => None,
        };
        match &mut run.stage {
            Stage::Serving { incarnation, .. } => {
                let incarnation = *incarnation;
                run.stage = Stage::Ending { incarnation };
                run.asked = now;
                shared.act(Action::End {
                    run: Some(id),
                    incarnation,
                    within: Some(within),
                    moves: true,
                });
            }
            Stage::Pausing { until, .. } => *until = now,
            // It is on its way to another worker anyway.
            Stage::Preparing(_) | Stage::Waiting { .. } | Stage::Starting { .. } | Stage::Ending { .. } => {}
        }
        if let Some(underway) = &mut self.change {
            underway.before = before;
        }
    }

    /// Lets all runs end.
    fn leave(&mut self, within: Option<Millis>) {
        (self.current, self.rest) = (None, None);
        for run in &mut self.runs {
            run.finishes = false;
            let shorter = match run.goal {
                Goal::Leave { within: Some(before) } => within.map_or(before, |within| within.min(before)),
                Goal::Leave { within: None } | Goal::Serve => within.unwrap_or(Millis::MAX),
            };
            run.goal = Goal::Leave {
                within: Some(shorter).filter(|within| *within < Millis::MAX),
            };
            // The end that was asked for may take longer than this one.
            if matches!(run.stage, Stage::Ending { .. }) {
                run.asked = 0;
            }
        }
    }

    /// Tries again what could not be started for a reason that may have passed.
    fn start_again(&mut self, shared: &Shared<T>) {
        if matches!(&self.rest, Some(Rest::Failed { again: Some(again), .. }) if *again <= shared.now) {
            self.rest = None;
        }
    }

    /// Adds a run where the desired state is to serve and there is none.
    fn have_a_run(&mut self, shared: &mut Shared<T>) {
        let underway = self.change.as_ref().filter(|underway| underway.given_up.is_none());
        let allows = underway.is_none_or(|underway| match underway.change {
            Change::Deploy { .. } => !underway.paused,
            Change::Park { .. } => true,
            Change::Start | Change::Stop { .. } | Change::Renew { .. } | Change::Remove => false,
        });
        let Some(desired) = self.desired.as_ref().filter(|desired| desired.serving) else {
            return;
        };
        if allows && self.rest.is_none() && self.current.is_none() {
            let (generation, spec) = (desired.generation, desired.spec.clone());
            self.current = Some(self.add_run(shared, generation, spec));
        }
    }

    fn add_run(&mut self, shared: &mut Shared<T>, generation: Generation, spec: T::Spec) -> RunId {
        let (id, action) = (shared.run_id(), shared.action_id());
        shared.act(Action::Prepare {
            id: action,
            name: self.name.clone(),
            spec: spec.clone(),
        });
        self.runs.push(Run {
            id,
            generation,
            spec,
            release: 0,
            prepared: None,
            hold: None,
            stage: Stage::Preparing(action),
            goal: Goal::Serve,
            finishes: false,
            early_exits: EarlyExits::default(),
            asked: shared.now,
        });
        id
    }

    /// Brings a run nearer to its goal.
    fn advance(&mut self, shared: &mut Shared<T>, id: RunId) {
        let Some(run) = self.run_mut(id) else { return };
        match (&run.stage, run.goal) {
            (Stage::Starting { .. }, Goal::Leave { .. }) if run.finishes => {}
            (Stage::Pausing { until, .. }, Goal::Leave { .. }) if run.finishes && *until > shared.now => {}
            (Stage::Pausing { .. }, _) if run.finishes => self.start_next(shared, id),
            (Stage::Preparing(_) | Stage::Waiting { .. } | Stage::Pausing { .. }, Goal::Leave { .. }) => {
                self.drop_run(shared, id);
            }
            (Stage::Starting { incarnation, .. } | Stage::Serving { incarnation, .. }, Goal::Leave { .. }) => {
                run.stage = Stage::Ending {
                    incarnation: *incarnation,
                };
                (run.finishes, run.asked) = (false, shared.now);
                shared.act(end(run));
            }
            (Stage::Ending { .. }, Goal::Leave { .. }) if run.asked == 0 && shared.now > 0 => {
                run.asked = shared.now;
                shared.act(end(run));
            }
            (Stage::Pausing { until, .. }, Goal::Serve) if *until <= shared.now => self.start_next(shared, id),
            (Stage::Waiting { since }, Goal::Serve) if !shared.adopting => {
                let since = *since;
                self.place(shared, id, since);
            }
            _ => {}
        }
    }

    /// Starts the next worker of a run.
    fn start_next(&mut self, shared: &mut Shared<T>, id: RunId) {
        let name = self.name.clone();
        let Some(run) = self.run_mut(id) else { return };
        run.stage = Stage::Starting {
            incarnation: shared.incarnation(),
            adopt: false,
        };
        run.asked = shared.now;
        shared.act(start(&name, run));
    }

    /// Finds a place for a run whose spec is prepared.
    fn place(&mut self, shared: &mut Shared<T>, id: RunId, since: Millis) {
        if self.merge(shared, id) {
            return;
        }
        let name = self.name.clone();
        let run = self.run(id).expect("it is being placed");
        let (_, prepared) = run.prepared.clone().expect("it waits for a place");
        let release = self.release_of(&prepared.identity);
        let (incarnation, hold, adopt) = match shared.heir(&name, &prepared.needs, id) {
            Some((incarnation, hold)) => (incarnation, hold, true),
            None => match shared.ledgers.hold(&name, &prepared.needs, Holder::Run(id)) {
                Ok(hold) => (shared.incarnation(), hold, false),
                Err(failure) => return self.has_no_room(shared, id, since, failure),
            },
        };
        let run = self.run_mut(id).expect("it is being placed");
        run.hold = Some(hold);
        run.release = release;
        run.stage = Stage::Starting { incarnation, adopt };
        run.asked = shared.now;
        shared.act(start(&name, run));
    }

    /// Turns the current run into another release that needs no other worker; returns whether it did.
    fn merge(&mut self, shared: &mut Shared<T>, id: RunId) -> bool {
        if self.current == Some(id) || self.coming() != Some(id) || self.writing_accept().is_some() {
            return false;
        }
        let serves = self.current_run().filter(|run| run.serves() && !run.is_leaving());
        let Some(current) = serves.map(|run| run.id) else {
            return false;
        };
        if self.run(id).and_then(Run::machine) != self.run(current).and_then(Run::machine) {
            return false;
        }
        let Some(place) = self.runs.iter().position(|run| run.id == id) else {
            return false;
        };
        let coming = self.runs.remove(place);
        let identity = coming.prepared.as_ref().map(|(_, prepared)| prepared.identity.clone());
        let release = self.release_of(&identity.unwrap_or_default());
        let run = self.run_mut(current).expect("it serves");
        if let Some((before, _)) = run.prepared.take() {
            shared.act(Action::Abandon { id: before });
        }
        (run.generation, run.spec, run.prepared, run.release) =
            (coming.generation, coming.spec, coming.prepared, release);
        self.set_change_run(Some(current));
        self.serve(shared, current);
        true
    }

    fn has_no_room(&mut self, shared: &mut Shared<T>, id: RunId, since: Millis, failure: Failure) {
        if !failure.is_for_want_of_room() {
            return self.fail_run(shared, id, failure);
        }
        let makes_room = self.frees_soon();
        let frees_soon = makes_room || shared.frees_soon || shared.left.iter().any(|worker| worker.hold.is_some());
        let has_time = shared.now.saturating_sub(since) < ROOM_WAIT;
        let underway = self.change.as_ref().filter(|underway| underway.run == Some(id));
        let is_paused = underway.is_some_and(|underway| underway.paused);
        if frees_soon && has_time || (is_paused || self.frees_in_time()) && makes_room {
            return;
        }
        let with_pause = underway.is_some_and(|underway| {
            matches!(underway.change, Change::Deploy { with_pause: true, .. }) && !underway.paused
        });
        let current = self.current.filter(|current| with_pause && *current != id);
        if let Some(run) = current.and_then(|id| self.run_mut(id)) {
            run.goal = Goal::Leave { within: Some(PAUSE) };
            self.current = None;
            if let Some(underway) = &mut self.change {
                underway.paused = true;
            }
            return;
        }
        self.fail_run(shared, id, failure);
    }

    /// Notes that a run cannot be started, and drops it.
    fn fail_run(&mut self, shared: &mut Shared<T>, id: RunId, failure: Failure) {
        let coming = self.coming();
        self.drop_run(shared, id);
        if coming == Some(id) {
            self.give_up(shared, failure);
        } else if self.current.is_none() && self.desired.as_ref().is_some_and(|desired| desired.serving) {
            self.refuse_calls(shared, &failure.why);
            self.rest = Some(match self.unparks && failure.may_pass() {
                // The next call tries again.
                true => Rest::Parked,
                false => Rest::Failed {
                    again: failure.may_pass().then(|| shared.now + START_AGAIN),
                    why: failure.why,
                },
            });
        }
    }

    /// Lets a run whose worker has ended try again after a while.
    fn pause(&mut self, shared: &Shared<T>, id: RunId, produced: bool, why: String) {
        let Some(run) = self.run_mut(id) else { return };
        let pause = run.early_exits.note(produced);
        run.stage = Stage::Pausing {
            until: shared.now + millis(pause),
            why,
        };
    }

    /// Drops a run of which no worker is left.
    fn drop_run(&mut self, shared: &mut Shared<T>, id: RunId) {
        let Some(place) = self.runs.iter().position(|run| run.id == id) else {
            return;
        };
        let run = self.runs.remove(place);
        run.hold.iter().for_each(|hold| shared.ledgers.give_back(hold));
        match (run.prepared, run.stage) {
            (Some((id, _)), _) | (None, Stage::Preparing(id)) => shared.act(Action::Abandon { id }),
            _ => {}
        }
        if self.current == Some(id) {
            self.current = None;
        }
    }

    /// Ends the change under way where it has reached what it wanted. While a newer one is being noted, the older one waits: it is not known
    /// which of the two the store has.
    fn end_change(&mut self, shared: &mut Shared<T>) {
        if self.writing_accept().is_some() || shared.adopting {
            return;
        }
        let Some(underway) = self.change.as_ref().filter(|underway| underway.is_begun) else {
            return;
        };
        if let Some(failure) = underway.given_up.clone() {
            return self.finish(Outcome::GivenUp { failure }, None);
        }
        let run = underway.run.and_then(|id| self.run(id));
        let nothing_left = self.runs.is_empty() && !shared.has_left(&self.name);
        match &underway.change {
            Change::Deploy { .. } | Change::Start => match run {
                Some(run) if run.serves() => {
                    let id = run.id;
                    self.goes_on_with(shared, id);
                }
                Some(_) => {}
                None => self.give_up(shared, Failure::other("it could not be started".into())),
            },
            Change::Stop { .. } if nothing_left => {
                let desired = self.desired.clone();
                self.reached(desired);
            }
            Change::Remove if nothing_left => {
                shared.act(Action::Forget {
                    name: self.name.clone(),
                });
                self.reached(None);
            }
            Change::Park { .. } if run.is_none() => self.reached(None),
            Change::Renew { .. } => match run {
                Some(run) if run.serves() && run.incarnation() != underway.before => self.reached(None),
                Some(run) if !run.is_leaving() => match &run.stage {
                    Stage::Pausing { why, .. } if run.early_exits.is_loop() => {
                        let failure = Failure::worker(why.clone());
                        self.give_up(shared, failure);
                    }
                    _ => {}
                },
                _ => self.give_up(shared, Failure::other("it is not served any more".into())),
            },
            Change::Stop { .. } | Change::Remove | Change::Park { .. } => {}
        }
    }

    /// Lets calls go to a run that a change has brought.
    fn goes_on_with(&mut self, shared: &mut Shared<T>, id: RunId) {
        if let Some(before) = self.current.filter(|before| *before != id)
            && let Some(run) = self.run_mut(before)
        {
            run.goal = Goal::Leave { within: None };
        }
        (self.current, self.rest) = (Some(id), None);
        self.serve(shared, id);
        let run = self.run(id).expect("it serves");
        let identity = run.prepared.as_ref().map(|(_, prepared)| prepared.identity.clone());
        let generation = self
            .change
            .as_ref()
            .map_or(run.generation, |underway| underway.generation);
        let desired = Desired {
            generation,
            spec: run.spec.clone(),
            release: run.release,
            identity: identity.unwrap_or_default(),
            serving: true,
        };
        self.last_release = self.last_release.max(desired.release);
        self.desired = Some(desired.clone());
        self.reached(Some(desired));
    }

    fn reached(&mut self, desired: Option<Desired<T::Spec>>) {
        self.finish(Outcome::Reached, desired);
    }

    /// Gives the change under way up: the endpoint is what it was before.
    fn give_up(&mut self, shared: &mut Shared<T>, failure: Failure) {
        let Some(underway) = &self.change else { return };
        let (starts, run) = (underway.starts(), underway.run);
        if let Some(id) = run.filter(|id| starts && self.current != Some(*id))
            && let Some(run) = self.run_mut(id)
        {
            run.goal = Goal::Leave { within: Some(0) };
        }
        if self.desired.as_ref().is_none_or(|desired| !desired.serving) {
            self.refuse_calls(shared, &failure.why);
        }
        match (self.writing_accept(), &mut self.change) {
            // It is not known yet whether the newer change has taken its place.
            (Some(_), Some(underway)) => underway.given_up = Some(failure),
            _ => self.finish(Outcome::GivenUp { failure }, None),
        }
    }

    fn finish(&mut self, outcome: Outcome, desired: Option<Desired<T::Spec>>) {
        if let Some(underway) = self.change.take() {
            self.writes.push_back(Write::End {
                name: self.name.clone(),
                generation: underway.generation,
                outcome,
                desired,
            });
        }
    }

    /// Asks for the next transaction.
    fn write(&mut self, shared: &mut Shared<T>) {
        if self.writing.is_some() {
            return;
        }
        let write = match self.writes.pop_front() {
            Some(write) => write,
            None => match self.next_proposal(shared) {
                Some(write) => write,
                None => return,
            },
        };
        let id = shared.action_id();
        self.writing = Some(Writing {
            id,
            write: write.clone(),
            asked: shared.now,
            has_failed: false,
        });
        shared.act(Action::Write { id, write });
    }

    /// Returns the newest possible proposal as a transaction; all other proposals are refused.
    fn next_proposal(&mut self, shared: &mut Shared<T>) -> Option<Write<T::Spec>> {
        let mut newest: Option<Proposal<T::Spec>> = None;
        for proposal in take(&mut self.proposals) {
            let refused = match self.refusal(&proposal) {
                Some(refused) => Some((proposal.generation, refused)),
                None => {
                    let by = proposal.generation;
                    newest
                        .replace(proposal)
                        .map(|older| (older.generation, Refused::Replaced { by }))
                }
            };
            if let Some((generation, refused)) = refused {
                let accepted = Err(refused);
                shared.act(Action::Answer { generation, accepted });
            }
        }
        let proposal = newest?;
        let write = Write::Accept {
            name: self.name.clone(),
            generation: proposal.generation,
            change: proposal.change.clone(),
            replaces: self.change.as_ref().map(|underway| underway.generation),
        };
        self.proposals.push_front(proposal);
        Some(write)
    }

    /// Returns why a change cannot be.
    fn refusal(&self, proposal: &Proposal<T::Spec>) -> Option<Refused> {
        if proposal.is_withdrawn {
            let why = "somebody has cancelled it".into();
            return Some(Refused::NotStored { why });
        }
        let is_there = self.desired.is_some() || self.change.as_ref().is_some_and(Underway::starts);
        let serving = self.desired.as_ref().is_some_and(|desired| desired.serving);
        match &proposal.change {
            Change::Deploy {
                from_release: Some(from),
                ..
            } => {
                let now = self.desired.as_ref().map_or(0, |desired| desired.release);
                (*from != now).then_some(Refused::Stale { now })
            }
            Change::Deploy { .. } => None,
            _ if !is_there => Some(Refused::Unknown),
            Change::Stop { .. } | Change::Remove => None,
            Change::Start if self.current.is_some() => Some(Refused::Served),
            Change::Start if self.desired.is_none() => Some(Refused::Starting),
            Change::Start => None,
            Change::Park { .. } if !serving || self.current.is_none() => Some(Refused::NotServed),
            Change::Renew { .. } if self.current.is_none() => Some(Refused::NotServed),
            Change::Park { .. } | Change::Renew { .. } => None,
        }
    }

    /// Returns the run that the change under way is about to serve.
    fn coming(&self) -> Option<RunId> {
        self.change
            .as_ref()
            .filter(|underway| underway.starts())
            .and_then(|underway| underway.run)
    }

    fn set_change_run(&mut self, run: Option<RunId>) {
        if let Some(underway) = &mut self.change {
            underway.run = run;
        }
    }

    /// Returns the number of a change that is being noted.
    fn writing_accept(&self) -> Option<Generation> {
        match self.writing.as_ref().map(|writing| &writing.write) {
            Some(Write::Accept { generation, .. }) => Some(*generation),
            _ => None,
        }
    }

    /// Returns the number of the release that an identity has: the newest one's, or the next one.
    fn release_of(&self, identity: &str) -> u32 {
        match &self.desired {
            Some(desired) if desired.identity == identity => desired.release,
            _ => self.last_release + 1,
        }
    }

    fn serve(&self, shared: &mut Shared<T>, id: RunId) {
        if let Some(run) = self.run(id)
            && let Some((prepared, _)) = &run.prepared
        {
            shared.act(Action::Serve {
                name: self.name.clone(),
                run: id,
                release: run.release,
                prepared: *prepared,
            });
        }
    }

    fn refuse_calls(&self, shared: &mut Shared<T>, why: &str) {
        shared.act(Action::Refuse {
            name: self.name.clone(),
            why: why.to_owned(),
        });
    }
}

/// Returns the action that starts a run's worker.
fn start<T: Terms>(name: &str, run: &Run<T>) -> Action<T> {
    let (incarnation, adopt) = match run.stage {
        Stage::Starting { incarnation, adopt } => (incarnation, adopt),
        _ => unreachable!("only a run whose worker is being started asks for that"),
    };
    Action::Start(Start {
        run: run.id,
        name: name.to_owned(),
        release: run.release,
        prepared: run.prepared.as_ref().map_or(0, |(id, _)| *id),
        incarnation,
        adopt,
        taken: run
            .hold
            .as_ref()
            .map(|hold| hold.taken.clone())
            .expect("a run holds its memory before it is started"),
    })
}

/// Returns the action that ends a run's worker.
fn end<T: Terms>(run: &Run<T>) -> Action<T> {
    let within = match run.goal {
        Goal::Leave { within } => within,
        Goal::Serve => None,
    };
    Action::End {
        run: Some(run.id),
        incarnation: run.incarnation().unwrap_or_default(),
        within,
        moves: run.goal == Goal::Serve,
    }
}

fn millis(duration: Duration) -> Millis {
    Millis::try_from(duration.as_millis()).unwrap_or(Millis::MAX)
}
