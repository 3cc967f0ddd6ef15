//! One endpoint: its desired state, the change under way, and its runs. Events note facts; [`Endpoint::settle`] then returns the actions that
//! follow from the facts.

mod changes;
mod events;
mod runs;

use super::event::{Change, Failure};
use super::run::{Goal, Run, Stage};
use super::shared::Shared;
use super::{Action, ActionId, Desired, Generation, Incarnation, LOOK, Millis, RETRY_WRITE, RunId, Terms, Write};
use runs::{end, start};
use std::collections::VecDeque;

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
}
