//! Named leases: who uses the replicas of an endpoint.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// A callback for the moment without leases.
type WhenFree = Box<dyn FnOnce() + Send>;

/// The leases of one run of an endpoint.
#[derive(Default)]
pub struct Leases(Mutex<State>);

#[derive(Default)]
struct State {
    held: BTreeMap<u64, (String, Instant)>,
    next: u64,
    when_free: Vec<WhenFree>,
}

/// The right to use the replicas, given back by its holder under its number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LeaseNumber(u64);

impl Leases {
    /// Gives a lease to a holder.
    pub fn take(&self, holder: &str) -> LeaseNumber {
        let mut state = self.lock();
        let number = state.next;
        state.next += 1;
        state.held.insert(number, (holder.to_owned(), Instant::now()));
        LeaseNumber(number)
    }

    /// Takes a lease back. The last one does what waits for that.
    pub fn give_back(&self, number: LeaseNumber) {
        let mut state = self.lock();
        state.held.remove(&number.0);
        let waiting = match state.held.is_empty() {
            true => std::mem::take(&mut state.when_free),
            false => Vec::new(),
        };
        drop(state);
        waiting.into_iter().for_each(|then| then());
    }

    /// Returns whether there are no leases.
    pub fn is_free(&self) -> bool {
        self.lock().held.is_empty()
    }

    /// Calls `then` as soon as there are no leases: now, or when the last one is returned.
    pub fn when_free(&self, then: impl FnOnce() + Send + 'static) {
        let mut state = self.lock();
        match state.held.is_empty() {
            true => {
                drop(state);
                then();
            }
            false => state.when_free.push(Box::new(then)),
        }
    }

    /// Returns the holders, and for how long each has had a lease, the oldest first.
    pub fn holders(&self) -> Vec<(String, Duration)> {
        let state = self.lock();
        let held = state.held.values();
        held.map(|(holder, since)| (holder.clone(), since.elapsed())).collect()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[test]
    fn holders_are_listed_and_the_last_return_does_what_waits_once() {
        let (leases, done) = (Leases::default(), Arc::new(AtomicUsize::new(0)));
        let count = || {
            let done = done.clone();
            move || _ = done.fetch_add(1, Ordering::SeqCst)
        };
        leases.when_free(count());
        assert_eq!(done.load(Ordering::SeqCst), 1);
        let (first, second) = (leases.take("a call of anna"), leases.take("a load test"));
        leases.when_free(count());
        let holders: Vec<String> = leases.holders().into_iter().map(|(holder, _)| holder).collect();
        assert_eq!(holders, ["a call of anna", "a load test"]);
        leases.give_back(first);
        leases.give_back(first);
        assert_eq!((leases.is_free(), done.load(Ordering::SeqCst)), (false, 1));
        leases.give_back(second);
        assert_eq!((leases.is_free(), done.load(Ordering::SeqCst)), (true, 2));
        let third = leases.take("a call");
        leases.give_back(third);
        assert_eq!(done.load(Ordering::SeqCst), 2);
    }
}
