//! Tells somebody who keeps a replica alive to stop.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError, Weak};
use std::time::Duration;
use vastrelay_serving::worker::WorkerEngine;

/// Tells a keeper to stop.
#[derive(Default)]
pub(crate) struct Stop {
    state: Mutex<StopState>,
    change: Condvar,
}

#[derive(Default)]
struct StopState {
    is_set: bool,
    /// The engine to be ended with it.
    engine: Weak<WorkerEngine>,
}

impl Stop {
    pub fn set(&self) {
        let mut state = self.lock();
        state.is_set = true;
        if let Some(engine) = state.engine.upgrade() {
            engine.end();
        }
        self.change.notify_all();
    }

    pub fn is_set(&self) -> bool {
        self.lock().is_set
    }

    /// Ends an engine as soon as it is set.
    pub fn ends(&self, engine: &Weak<WorkerEngine>) {
        let mut state = self.lock();
        state.engine = engine.clone();
        if let Some(engine) = engine.upgrade().filter(|_| state.is_set) {
            engine.end();
        }
    }

    /// Waits for so long; returns whether it was told to stop.
    pub fn within(&self, pause: Duration) -> bool {
        let waited = self
            .change
            .wait_timeout_while(self.lock(), pause, |state| !state.is_set);
        let (state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        state.is_set
    }

    fn lock(&self) -> MutexGuard<'_, StopState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
