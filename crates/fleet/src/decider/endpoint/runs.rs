//! Runs of an endpoint: their places, their starts, and their ends.

use super::{Endpoint, Rest};
use crate::decider::event::{Change, Failure};
use crate::decider::room::Holder;
use crate::decider::run::{Goal, Run, Stage};
use crate::decider::shared::Shared;
use crate::decider::{Action, Generation, Millis, PAUSE, ROOM_WAIT, RunId, START_AGAIN, Start, Terms};
use crate::restart::EarlyExits;
use std::time::Duration;

impl<T: Terms> Endpoint<T> {
    /// Tries again what could not be started for a reason that may have passed.
    pub(super) fn start_again(&mut self, shared: &Shared<T>) {
        if matches!(&self.rest, Some(Rest::Failed { again: Some(again), .. }) if *again <= shared.now) {
            self.rest = None;
        }
    }

    /// Adds a run where the desired state is to serve and there is none.
    pub(super) fn have_a_run(&mut self, shared: &mut Shared<T>) {
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

    pub(super) fn add_run(&mut self, shared: &mut Shared<T>, generation: Generation, spec: T::Spec) -> RunId {
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
    pub(super) fn advance(&mut self, shared: &mut Shared<T>, id: RunId) {
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
    pub(super) fn start_next(&mut self, shared: &mut Shared<T>, id: RunId) {
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
    pub(super) fn place(&mut self, shared: &mut Shared<T>, id: RunId, since: Millis) {
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
    pub(super) fn merge(&mut self, shared: &mut Shared<T>, id: RunId) -> bool {
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

    pub(super) fn has_no_room(&mut self, shared: &mut Shared<T>, id: RunId, since: Millis, failure: Failure) {
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
    pub(super) fn fail_run(&mut self, shared: &mut Shared<T>, id: RunId, failure: Failure) {
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
    pub(super) fn pause(&mut self, shared: &Shared<T>, id: RunId, produced: bool, why: String) {
        let Some(run) = self.run_mut(id) else { return };
        let pause = run.early_exits.note(produced);
        run.stage = Stage::Pausing {
            until: shared.now + millis(pause),
            why,
        };
    }

    /// Drops a run of which no worker is left.
    pub(super) fn drop_run(&mut self, shared: &mut Shared<T>, id: RunId) {
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

    pub(super) fn serve(&self, shared: &mut Shared<T>, id: RunId) {
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

    pub(super) fn refuse_calls(&self, shared: &mut Shared<T>, why: &str) {
        shared.act(Action::Refuse {
            name: self.name.clone(),
            why: why.to_owned(),
        });
    }
}

/// Returns the action that starts a run's worker.
pub(super) fn start<T: Terms>(name: &str, run: &Run<T>) -> Action<T> {
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
pub(super) fn end<T: Terms>(run: &Run<T>) -> Action<T> {
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

pub(super) fn millis(duration: Duration) -> Millis {
    Millis::try_from(duration.as_millis()).unwrap_or(Millis::MAX)
}
