//! The part of the decider's state that endpoints share: numbers, the ledger, and workers that belong to no run.

use super::room::{Hold, Holder, Ledgers, Need};
use super::{ASK_AGAIN, Action, ActionId, Incarnation, LEFT_WAIT, Left, Millis, RunId, Terms};

/// State that endpoints share.
#[derive(Clone, Debug)]
pub(super) struct Shared<T: Terms> {
    pub ledgers: Ledgers,
    pub now: Millis,
    /// Whether an earlier service's workers are unknown as yet: nothing is started before they are known.
    pub adopting: bool,
    pub left: Vec<LeftWorker>,
    /// Workers of runs that were given up; they are ending.
    pub orphans: Vec<Orphan>,
    /// Whether memory of some other endpoint is about to be given back.
    pub frees_soon: bool,
    pub actions: Vec<Action<T>>,
    next_action: ActionId,
    next_run: RunId,
    last_incarnation: Incarnation,
}

/// A worker of an earlier service, with the memory that it holds.
#[derive(Clone, Debug)]
pub(super) struct LeftWorker {
    pub left: Left,
    pub hold: Option<Hold>,
    found: Millis,
    /// When it was last told to end, where it was.
    pub ending: Option<Millis>,
}

/// A worker that is ended, and of which no run knows.
#[derive(Clone, Copy, Debug)]
pub(super) struct Orphan {
    pub incarnation: Incarnation,
    pub asked: Millis,
}

impl<T: Terms> Shared<T> {
    pub fn new(last_incarnation: Incarnation) -> Shared<T> {
        Shared {
            ledgers: Ledgers::default(),
            now: 0,
            adopting: true,
            left: Vec::new(),
            orphans: Vec::new(),
            frees_soon: false,
            actions: Vec::new(),
            next_action: 0,
            next_run: 0,
            last_incarnation,
        }
    }

    pub fn act(&mut self, action: Action<T>) {
        self.actions.push(action);
    }

    pub fn action_id(&mut self) -> ActionId {
        self.next_action += 1;
        self.next_action
    }

    pub fn run_id(&mut self) -> RunId {
        self.next_run += 1;
        self.next_run
    }

    pub fn incarnation(&mut self) -> Incarnation {
        self.last_incarnation += 1;
        self.last_incarnation
    }

    /// Returns the number of the newest incarnation.
    pub fn last_incarnation(&self) -> Incarnation {
        self.last_incarnation
    }

    /// Returns whether something that was asked for then is asked for again.
    pub fn is_overdue(&self, asked: Millis) -> bool {
        self.now.saturating_sub(asked) >= ASK_AGAIN
    }

    /// Takes in workers that an earlier service has left.
    pub fn find(&mut self, left: Vec<Left>) {
        self.adopting = false;
        for left in left {
            self.last_incarnation = self.last_incarnation.max(left.incarnation);
            let holder = Holder::Left(left.incarnation);
            let hold = self.ledgers.hold_taken(&left.endpoint, left.taken.clone(), holder).ok();
            self.left.push(LeftWorker {
                left,
                hold,
                found: self.now,
                ending: None,
            });
        }
    }

    /// Returns the worker of an earlier service that a run adopts, and its memory: the newest worker of the endpoint that would do and has a
    /// place in the ledger.
    pub fn heir(&mut self, endpoint: &str, needs: &[T::Need], run: RunId) -> Option<(Incarnation, Hold)> {
        let fits = |worker: &LeftWorker| {
            worker.left.endpoint == endpoint
                && needs.iter().any(|need| need.worker() == worker.left.worker)
                && worker.ending.is_none()
                && worker.hold.is_some()
        };
        let fitting = self.left.iter().enumerate().filter(|(_, worker)| fits(worker));
        let (place, _) = fitting.max_by_key(|(_, worker)| worker.left.incarnation)?;
        let worker = self.left.swap_remove(place);
        let hold = worker.hold?;
        self.ledgers.hand_over(&hold, Holder::Run(run));
        Some((worker.left.incarnation, hold))
    }

    /// Returns whether an earlier service has left workers of an endpoint.
    pub fn has_left(&self, endpoint: &str) -> bool {
        self.left.iter().any(|worker| worker.left.endpoint == endpoint)
    }

    /// Ends workers of an earlier service that are not `kept`, have waited for too long, or whose memory the ledger does not have.
    pub fn end_left(&mut self, kept: impl Fn(&Left) -> bool) {
        let now = self.now;
        for worker in &mut self.left {
            let is_told = worker.ending.is_some_and(|asked| now.saturating_sub(asked) < ASK_AGAIN);
            let is_late = now.saturating_sub(worker.found) >= LEFT_WAIT;
            if !is_told && (worker.ending.is_some() || worker.hold.is_none() || is_late || !kept(&worker.left)) {
                worker.ending = Some(now);
                self.actions.push(end(worker.left.incarnation));
            }
        }
    }

    /// Ends a worker that no run knows.
    pub fn end_orphan(&mut self, incarnation: Incarnation) {
        if self.orphans.iter().all(|orphan| orphan.incarnation != incarnation) {
            let asked = self.now;
            self.orphans.push(Orphan { incarnation, asked });
            self.act(end(incarnation));
        }
    }

    /// Asks again for the end of workers that no run knows.
    pub fn ask_for_orphans(&mut self) {
        let now = self.now;
        for orphan in &mut self.orphans {
            if now.saturating_sub(orphan.asked) >= ASK_AGAIN {
                orphan.asked = now;
                self.actions.push(end(orphan.incarnation));
            }
        }
    }

    /// Notes that a worker is gone that belongs to no run.
    pub fn is_gone(&mut self, incarnation: Incarnation) {
        self.orphans.retain(|orphan| orphan.incarnation != incarnation);
        let is_it = |worker: &LeftWorker| worker.left.incarnation == incarnation;
        if let Some(place) = self.left.iter().position(is_it) {
            let worker = self.left.swap_remove(place);
            worker.hold.iter().for_each(|hold| self.ledgers.give_back(hold));
        }
    }
}

fn end<T: Terms>(incarnation: Incarnation) -> Action<T> {
    Action::End {
        run: None,
        incarnation,
        within: Some(0),
        moves: false,
    }
}
