//! Events of an endpoint: requests for changes, calls, and the results of actions.

use super::{Endpoint, Proposal, Rest, Underway, WorkerEnd};
use crate::decider::event::{Change, Failure, Prepared};
use crate::decider::run::{Goal, Run, Stage};
use crate::decider::shared::Shared;
use crate::decider::{Action, ActionId, Desired, Generation, Incarnation, Millis, Refused, RunId, Terms, Write};

impl<T: Terms> Endpoint<T> {
    pub(in crate::decider) fn propose(&mut self, generation: Generation, change: Change<T::Spec>) {
        self.proposals.push_back(Proposal {
            generation,
            change,
            is_withdrawn: false,
        });
    }

    /// Withdraws a change; returns whether it was there and can be withdrawn.
    pub(in crate::decider) fn withdraw(&mut self, shared: &mut Shared<T>, generation: Generation) -> bool {
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

    pub(in crate::decider) fn called(&mut self, shared: &mut Shared<T>) {
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

    pub(in crate::decider) fn idle(&mut self, shared: &mut Shared<T>, id: RunId) {
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

    pub(in crate::decider) fn closed(&mut self, action: ActionId, closed: bool) {
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

    pub(in crate::decider) fn prepared(
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

    pub(in crate::decider) fn started(
        &mut self,
        shared: &mut Shared<T>,
        id: RunId,
        of: Incarnation,
        result: Result<(), Failure>,
    ) {
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
    pub(super) fn becomes(&mut self, id: RunId) {
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
    pub(in crate::decider) fn gone(&mut self, shared: &mut Shared<T>, of: Incarnation, end: WorkerEnd) {
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

    pub(in crate::decider) fn seen(&mut self, now: Millis, of: Incarnation) {
        for run in &mut self.runs {
            if let Stage::Serving { incarnation, seen, .. } = &mut run.stage
                && *incarnation == of
            {
                *seen = now;
            }
        }
    }

    pub(in crate::decider) fn wrote(&mut self, shared: &mut Shared<T>, action: ActionId, result: Result<(), Failure>) {
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

    pub(super) fn accepted(
        &mut self,
        shared: &mut Shared<T>,
        proposal: Proposal<T::Spec>,
        result: Result<(), Failure>,
    ) {
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
}
