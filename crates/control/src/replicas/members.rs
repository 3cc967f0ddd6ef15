//! The replicas of an endpoint, and who waits for them. A new release that changes only answer settings keeps the replicas.

use crate::replicas::counters::ReleaseMetrics;
use crate::replicas::leases::Leases;
use crate::replicas::measured::MeasuredReplica;
use crate::replicas::queue::CallQueue;
use crate::replicas::state::{NotReady, ReplicaState};
use crate::replicas::termination::Termination;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_engine::EngineStatus;
use vastrelay_fleet::state::{self, State};
use vastrelay_serving::Replica;
use vastrelay_wire::manage::Totals;

/// Replicas of a run, the queue before them, and the leases of those who use them.
pub struct Replicas {
    replicas: RwLock<Vec<Arc<MeasuredReplica>>>,
    /// The states of replicas without a worker, by number.
    states: Mutex<BTreeMap<u32, ReplicaState>>,
    /// Told whenever one of the two changes.
    change: watch::Sender<()>,
    queue: Arc<CallQueue>,
    /// The totals of ended replicas.
    past: Mutex<Totals>,
    /// Whether the control plane brings replicas back.
    is_supervised: AtomicBool,
    /// Why no replica comes back any more, where none does.
    closed: OnceLock<NotReady>,
    /// Ends its worker.
    termination: Mutex<Option<Arc<Termination>>>,
    leases: Arc<Leases>,
    /// The settings for supervisors; each release may have its own.
    terms: Mutex<Terms>,
}

/// Settings for the supervisors of replicas.
#[derive(Clone)]
pub struct Terms {
    /// The metrics of the served release.
    pub counters: Arc<ReleaseMetrics>,
    /// Longest that a worker may take to start.
    pub longest_start: Option<Duration>,
}

impl Replicas {
    /// Returns no replicas yet.
    pub fn new(terms: Terms) -> Replicas {
        Replicas {
            replicas: RwLock::default(),
            states: Mutex::default(),
            change: watch::Sender::default(),
            queue: CallQueue::new(),
            past: Mutex::default(),
            is_supervised: AtomicBool::new(false),
            closed: OnceLock::new(),
            termination: Mutex::default(),
            leases: Arc::default(),
            terms: Mutex::new(terms),
        }
    }

    /// Notes that the control plane brings its replicas back, and what ends the worker that it starts now.
    pub fn supervise_with(&self, termination: Arc<Termination>) {
        self.is_supervised.store(true, Ordering::Release);
        *self.termination.lock().unwrap_or_else(PoisonError::into_inner) = Some(termination);
    }

    /// Returns the leases of those who use it.
    pub fn leases(&self) -> &Arc<Leases> {
        &self.leases
    }

    /// Returns what holds for those who keep its replicas.
    pub fn terms(&self) -> Terms {
        self.terms.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Says what holds from now on.
    pub fn set_terms(&self, terms: Terms) {
        *self.terms.lock().unwrap_or_else(PoisonError::into_inner) = terms;
    }

    /// Returns a receiver that is notified of changes.
    pub fn changes(&self) -> watch::Receiver<()> {
        self.change.subscribe()
    }

    /// Returns what becomes of replicas that have no worker, by number.
    pub fn without_worker(&self) -> BTreeMap<u32, ReplicaState> {
        self.states().clone()
    }

    /// Returns how many sequences were accepted and are not in a batch.
    pub fn queue_depth(&self) -> usize {
        let there = |measured: &Arc<MeasuredReplica>| {
            let status = measured.replica.generate.status();
            status.failure.map_or(status.occupancy.queue_depth, |_| 0)
        };
        self.queue.depth() + self.all().iter().map(there).sum::<usize>()
    }

    /// Returns the queue before its replicas.
    pub fn queue(&self) -> &Arc<CallQueue> {
        &self.queue
    }

    /// Returns whether the control plane brings replicas back that fail.
    pub fn is_supervised(&self) -> bool {
        self.is_supervised.load(Ordering::Acquire) && !self.is_closed()
    }

    /// Notes that a replica is gone and what becomes of it.
    pub fn comes_back(&self, replica: u32, state: ReplicaState) {
        self.states().insert(replica, state);
        self.change.send_replace(());
    }

    /// Returns whether its calls had to end.
    pub fn is_closed(&self) -> bool {
        self.closed.get().is_some()
    }

    /// Ends its calls with an error: the endpoint is stopped, and the time for calls to end is over.
    pub fn close(&self) {
        self.close_because(NotReady::Closed);
    }

    /// Ends its calls with an error that says why; the first reason counts.
    pub fn close_because(&self, why: NotReady) {
        let _ = self.closed.set(why);
        if let Some(termination) = &*self.termination.lock().unwrap_or_else(PoisonError::into_inner) {
            termination.end_now();
        }
        self.change.send_replace(());
    }

    fn states(&self) -> MutexGuard<'_, BTreeMap<u32, ReplicaState>> {
        self.states.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Puts a replica in the place of the one with its number, if there is one; what that one did still counts.
    pub fn place(&self, replica: Replica) {
        let mut replicas = self.replicas.write().unwrap_or_else(PoisonError::into_inner);
        let before = replicas
            .iter()
            .position(|measured| measured.replica.number == replica.number);
        if let Some(place) = before {
            let gone = replicas.swap_remove(place);
            let mut past = self.past.lock().unwrap_or_else(PoisonError::into_inner);
            *past += totals_of(&gone.replica.generate.status());
        }
        self.states().remove(&replica.number);
        replicas.push(Arc::new(MeasuredReplica::new(replica)));
        replicas.sort_by_key(|measured| measured.replica.number);
        let all = replicas.clone();
        drop(replicas);
        self.queue.serve_by(all);
        self.change.send_replace(());
    }

    /// Returns whether a replica takes requests.
    pub fn has_replica(&self) -> bool {
        let takes = |measured: &Arc<MeasuredReplica>| measured.replica.generate.given().is_some();
        self.all().iter().any(takes)
    }

    /// Returns why no replica takes requests; `None` if one does, or will soon.
    pub fn not_ready(&self) -> Option<NotReady> {
        if let Some(why) = self.closed.get() {
            return Some(why.clone());
        }
        if self.has_replica() {
            return None;
        }
        let replicas = self.all();
        if self.is_supervised() {
            return self.failed();
        }
        let failure = replicas
            .first()
            .and_then(|measured| measured.replica.generate.status().failure);
        Some(NotReady::Stopped(failure.unwrap_or_else(|| "it has no replica".into())))
    }

    /// Returns why waiting is useless: no replica is being started.
    fn failed(&self) -> Option<NotReady> {
        let states = self.states();
        if states.len() < self.all().len() {
            return None;
        }
        let failed = states.values().map(|state| match state {
            ReplicaState::Starting(_) | ReplicaState::Draining => None,
            ReplicaState::Failed {
                why,
                until,
                is_hopeless,
            } => Some((*until, why, *is_hopeless)),
        });
        let failed: Option<Vec<_>> = failed.collect();
        let (until, why, is_hopeless) = failed?.into_iter().min()?;
        let retry_after = until.saturating_duration_since(Instant::now());
        Some(NotReady::Failed {
            why: why.clone(),
            retry_after,
            is_hopeless,
        })
    }

    /// Returns its replicas that have a worker, or had one, in the order of their numbers.
    pub fn all(&self) -> Vec<Arc<MeasuredReplica>> {
        self.replicas.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Returns its first replica that has a worker, or had one.
    pub fn first_replica(&self) -> Option<Arc<MeasuredReplica>> {
        let replicas = self.replicas.read().unwrap_or_else(PoisonError::into_inner);
        replicas.first().cloned()
    }

    /// Returns what its release has done, over all incarnations of all replicas.
    pub fn totals(&self) -> Totals {
        let replicas = self.all();
        let mut totals = *self.past.lock().unwrap_or_else(PoisonError::into_inner);
        replicas
            .iter()
            .for_each(|measured| totals += totals_of(&measured.replica.generate.status()));
        totals
    }

    /// Returns its state.
    pub fn state(&self) -> State {
        let mut states: Vec<State> = self.all().iter().map(|measured| self.state_of(measured)).collect();
        states.extend(self.states().values().map(ReplicaState::state));
        state::of_replicas(&states)
    }

    /// Returns why a replica of it has failed, where one has.
    pub fn failure(&self) -> Option<String> {
        self.states().values().find_map(|state| match state {
            ReplicaState::Failed { why, .. } => Some(why.clone()),
            _ => None,
        })
    }

    /// Returns the state of one of its replicas: `ready`, `draining`, `starting` again, or `failed`.
    pub fn state_of(&self, measured: &MeasuredReplica) -> State {
        match self.states().get(&measured.replica.number) {
            Some(state) => state.state(),
            None if !measured.has_failed() => State::Ready,
            // The control plane has not noticed yet.
            None if self.is_supervised() => State::Starting,
            None => State::Failed,
        }
    }
}

/// Returns what an engine has done.
pub fn totals_of(status: &EngineStatus) -> Totals {
    Totals {
        steps: status.steps,
        busy: status.busy,
        prefill_tokens: status.prefill_tokens,
        output_tokens: status.output_tokens,
        ended: status.ended,
        preemptions: status.preemptions,
    }
}
