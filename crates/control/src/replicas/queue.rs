//! The queue before an endpoint's replicas: calls wait here while no replica has room, so any of them can take each call.

use crate::replicas::measured::MeasuredReplica;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;
use tokio::sync::oneshot;
use vastrelay_fleet::dispatch::{FairQueue, KeyShare, QueuePosition, ReplicaLoad, choose};

/// The queue of an endpoint.
pub struct CallQueue {
    state: Mutex<State>,
    /// When its clock began.
    began: Instant,
}

#[derive(Default)]
struct State {
    queue: FairQueue<Waiter>,
    replicas: Vec<Arc<MeasuredReplica>>,
    /// Sequences that are about to be given to replicas, by incarnation.
    promised: BTreeMap<u64, usize>,
    /// Replicas in exclusive use.
    taken: BTreeSet<u64>,
}

/// A call that waits.
struct Waiter {
    exclusive: bool,
    turn: oneshot::Sender<Turn>,
}

/// A call, as the queue sees it.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Its caller's key.
    pub key: KeyShare,
    /// The sequences that it asks for.
    pub sequences: usize,
    /// Its priority.
    pub priority: i8,
    /// When it arrived.
    pub arrived: Instant,
    /// Whether it goes to a replica that works on nothing else.
    pub exclusive: bool,
    /// Whether it was accepted before: it waits however often workers fail, and however many wait.
    pub again: bool,
}

/// A place in the queue, given up when it is dropped.
pub struct Waiting {
    queue: Arc<CallQueue>,
    place: QueuePosition,
    /// Its turn, as soon as it comes.
    pub turn: oneshot::Receiver<Turn>,
}

/// The right to hand something in at a replica; until that is done, what was promised counts as given.
pub struct Turn {
    queue: Arc<CallQueue>,
    /// The replica.
    pub measured: Arc<MeasuredReplica>,
    sequences: usize,
    /// Kept for as long as the replica is the call's alone.
    exclusive: Option<Exclusive>,
}

/// Exclusive use of a replica.
pub struct Exclusive {
    queue: Arc<CallQueue>,
    incarnation: u64,
}

impl CallQueue {
    /// Returns an empty queue.
    pub fn new() -> Arc<CallQueue> {
        Arc::new(CallQueue {
            state: Mutex::default(),
            began: Instant::now(),
        })
    }

    /// Says which replicas there are.
    pub fn serve_by(self: &Arc<Self>, replicas: Vec<Arc<MeasuredReplica>>) {
        for measured in &replicas {
            let queue = Arc::downgrade(self);
            measured.replica.generate.when_room(Box::new(move || {
                if let Some(queue) = queue.upgrade() {
                    queue.dispatch();
                }
            }));
        }
        self.lock().replicas = replicas;
        self.dispatch();
    }

    /// Enters something, unless more than `limit` sequences would wait.
    ///
    /// # Errors
    /// How many wait, when too many would.
    pub fn enter(self: &Arc<Self>, entry: Entry, limit: usize) -> Result<Waiting, usize> {
        let (turn, received) = oneshot::channel();
        let waiter = Waiter {
            exclusive: entry.exclusive,
            turn,
        };
        let mut state = self.lock();
        let loads = state.loads();
        if !state.queue.takes(&entry.key.id, entry.sequences, limit, &loads) {
            return Err(state.queue.waiting(&loads));
        }
        let arrived = entry.arrived.saturating_duration_since(self.began).as_micros() as u64;
        let place = state
            .queue
            .enter(&entry.key, entry.sequences, entry.priority, arrived, waiter);
        drop(state);
        self.dispatch();
        Ok(Waiting {
            queue: self.clone(),
            place,
            turn: received,
        })
    }

    /// Returns how many sequences wait.
    pub fn depth(&self) -> usize {
        self.lock().queue.depth()
    }

    /// Returns how many sequences wait, when no more of a key may.
    pub fn full(&self, key: &str, limit: usize) -> Option<usize> {
        let state = self.lock();
        let loads = state.loads();
        (!state.queue.takes(key, 1, limit, &loads)).then(|| state.queue.waiting(&loads))
    }

    /// Gives turns to those who come first, as long as a replica has room.
    fn dispatch(self: &Arc<Self>) {
        let mut gone = Vec::new();
        let mut state = self.lock();
        while let Some(first) = state.queue.first() {
            let loads = state.loads();
            let Some(place) = choose(&loads, first.exclusive) else {
                break;
            };
            let measured = state.replicas[place].clone();
            let incarnation = measured.replica.incarnation;
            let Some((sequences, waiter)) = state.queue.take_first() else {
                break;
            };
            *state.promised.entry(incarnation).or_default() += sequences;
            if waiter.exclusive {
                state.taken.insert(incarnation);
            }
            let turn = Turn {
                queue: self.clone(),
                measured,
                sequences,
                exclusive: waiter.exclusive.then(|| Exclusive {
                    queue: self.clone(),
                    incarnation,
                }),
            };
            // Whoever does not wait any more gives it back when nobody holds the lock.
            gone.extend(waiter.turn.send(turn).err());
        }
        drop(state);
        drop(gone);
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl State {
    /// Counts sequences no more that were promised to a replica.
    fn forget_promise(&mut self, incarnation: u64, sequences: usize) {
        if let Some(promised) = self.promised.get_mut(&incarnation) {
            *promised = promised.saturating_sub(sequences);
            if *promised == 0 {
                self.promised.remove(&incarnation);
            }
        }
    }

    /// Returns how loaded each replica is; one that has failed is full.
    fn loads(&self) -> Vec<ReplicaLoad> {
        let load = |measured: &Arc<MeasuredReplica>| {
            let incarnation = measured.replica.incarnation;
            let promised = self.promised.get(&incarnation).copied().unwrap_or(0);
            match measured.replica.generate.given() {
                Some(given) => ReplicaLoad {
                    given: given + promised,
                    width: measured.replica.generate.limits().width,
                    is_taken: self.taken.contains(&incarnation),
                },
                None => ReplicaLoad {
                    given: 0,
                    width: 0,
                    is_taken: true,
                },
            }
        };
        self.replicas.iter().map(load).collect()
    }
}

impl Turn {
    /// Hands the promised sequences to the replica under the lock of the queue, so each sequence counts exactly once. Returns the result of
    /// `give`, and the exclusive use of the replica where the call has it.
    pub fn hand_over<T>(mut self, give: impl FnOnce() -> T) -> (T, Option<Exclusive>) {
        let mut state = self.queue.lock();
        let given = give();
        state.forget_promise(self.measured.replica.incarnation, self.sequences);
        drop(state);
        self.sequences = 0;
        (given, self.exclusive.take())
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        let left = self.queue.lock().queue.leave(&self.place);
        drop(left);
        // A turn that came meanwhile is given back with the receiver.
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        self.exclusive = None;
        let mut state = self.queue.lock();
        state.forget_promise(self.measured.replica.incarnation, self.sequences);
        drop(state);
        self.queue.dispatch();
    }
}

impl Drop for Exclusive {
    fn drop(&mut self) {
        self.queue.lock().taken.remove(&self.incarnation);
        self.queue.dispatch();
    }
}
