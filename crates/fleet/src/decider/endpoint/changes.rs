//! A change of an endpoint: its beginning, its end, and the writes of both.

use super::{Endpoint, Proposal, Rest, Underway, Writing};
use crate::decider::event::{Change, Failure};
use crate::decider::run::{Goal, Stage};
use crate::decider::shared::Shared;
use crate::decider::{Action, Desired, Millis, Outcome, Refused, RunId, Terms, Write};
use std::mem::take;

impl<T: Terms> Endpoint<T> {
    pub(super) fn begin_change(&mut self, shared: &mut Shared<T>) {
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

    pub(super) fn begin_renewal(&mut self, shared: &mut Shared<T>) {
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
    pub(super) fn leave(&mut self, within: Option<Millis>) {
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

    /// Ends the change under way where it has reached what it wanted. While a newer one is being noted, the older one waits: it is not known
    /// which of the two the store has.
    pub(super) fn end_change(&mut self, shared: &mut Shared<T>) {
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
    pub(super) fn goes_on_with(&mut self, shared: &mut Shared<T>, id: RunId) {
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

    pub(super) fn reached(&mut self, desired: Option<Desired<T::Spec>>) {
        self.finish(Outcome::Reached, desired);
    }

    /// Gives the change under way up: the endpoint is what it was before.
    pub(super) fn give_up(&mut self, shared: &mut Shared<T>, failure: Failure) {
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

    pub(super) fn finish(&mut self, outcome: Outcome, desired: Option<Desired<T::Spec>>) {
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
    pub(super) fn write(&mut self, shared: &mut Shared<T>) {
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
    pub(super) fn next_proposal(&mut self, shared: &mut Shared<T>) -> Option<Write<T::Spec>> {
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
    pub(super) fn refusal(&self, proposal: &Proposal<T::Spec>) -> Option<Refused> {
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
}
