//! Tells a worker to end, to make room for the next one, or to end when its calls have.

use std::sync::{Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};
use vastrelay_serving::worker::WorkerEngine;

/// Ends a worker, at once or when its calls have ended.
#[derive(Default)]
pub struct Termination(Mutex<State>);

#[derive(Default)]
struct State {
    is_ending: bool,
    /// The time by which another worker must replace it.
    renewal: Option<Instant>,
    /// Until when its calls have to end.
    deadline: Option<Instant>,
    /// Whether it ends with its last call.
    waits_for_calls: bool,
    /// The engine to be ended with it.
    engine: Weak<WorkerEngine>,
}

impl Termination {
    /// Ends the worker now.
    pub fn end_now(&self) {
        let mut state = self.lock();
        state.is_ending = true;
        if let Some(engine) = state.engine.upgrade() {
            engine.end();
        }
    }

    /// Returns whether the worker is ending.
    pub fn is_ending(&self) -> bool {
        self.lock().is_ending
    }

    /// Drains the worker; calls that run longer than this continue on the next worker.
    pub fn renew(&self, within: Duration) {
        let mut state = self.lock();
        state.renewal = Instant::now().checked_add(within);
        if let Some(engine) = state.engine.upgrade() {
            engine.drain();
        }
    }

    /// Returns the time by which another worker must replace it; `None` without a renewal.
    pub fn renewal(&self) -> Option<Instant> {
        self.lock().renewal
    }

    /// Says how long its calls have to end; the shortest time counts.
    pub fn ends_calls_within(&self, within: Duration) {
        let mut state = self.lock();
        let until = Instant::now().checked_add(within);
        state.deadline = state.deadline.into_iter().chain(until).min();
    }

    /// Notes that it ends with its last call; returns whether that is news.
    pub fn waits_for_calls(&self) -> bool {
        !std::mem::replace(&mut self.lock().waits_for_calls, true)
    }

    /// Returns whether its calls should have ended by now.
    pub fn is_late(&self) -> bool {
        self.lock().deadline.is_some_and(|until| Instant::now() >= until)
    }

    /// Ends a new engine together with its worker.
    pub fn attach(&self, engine: &Weak<WorkerEngine>) {
        let mut state = self.lock();
        state.engine = engine.clone();
        if let Some(engine) = engine.upgrade() {
            if state.is_ending {
                engine.end();
            } else if state.renewal.is_some() {
                engine.drain();
            }
        }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shortest_time_for_calls_counts_and_a_time_that_no_clock_has_is_none() {
        let termination = Termination::default();
        assert!(!termination.is_late() && !termination.is_ending());
        termination.ends_calls_within(Duration::MAX);
        assert!(!termination.is_late());
        termination.ends_calls_within(Duration::ZERO);
        termination.ends_calls_within(Duration::from_secs(3_600));
        assert!(termination.is_late());
        termination.end_now();
        assert!(termination.is_ending() && termination.renewal().is_none());
    }
}
