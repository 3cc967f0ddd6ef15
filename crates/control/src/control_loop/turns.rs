//! Turns at something that only so many may do at the same time.

use std::sync::{Condvar, Mutex, PoisonError};

/// Turns at something.
pub(super) struct Turns {
    free: Mutex<usize>,
    change: Condvar,
}

/// A turn, given back when it is dropped.
pub(super) struct Turn<'a>(&'a Turns);

impl Turns {
    /// Returns so many turns.
    pub fn new(count: usize) -> Turns {
        Turns {
            free: Mutex::new(count),
            change: Condvar::new(),
        }
    }

    /// Waits for a turn.
    pub fn enter(&self) -> Turn<'_> {
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.change.wait_while(free, |free| *free == 0);
        *waited.unwrap_or_else(PoisonError::into_inner) -= 1;
        Turn(self)
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        *self.0.free.lock().unwrap_or_else(PoisonError::into_inner) += 1;
        self.0.change.notify_one();
    }
}
