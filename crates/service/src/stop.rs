//! Tells somebody who keeps a replica alive to stop, or to go on with another worker.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};
use vastrelay_serving::worker::WorkerEngine;

/// Tells a keeper to stop, or to renew its worker.
#[derive(Default)]
pub(crate) struct Stop {
    state: Mutex<StopState>,
    change: Condvar,
}

#[derive(Default)]
struct StopState {
    is_set: bool,
    /// Until when the worker has to be another one.
    renewal: Option<Instant>,
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

    /// Drains the worker there is, for so long at most; where there is none, the next one is started now.
    pub fn renew(&self, within: Duration) {
        let mut state = self.lock();
        // A time that no clock has is as good as none.
        state.renewal = Instant::now().checked_add(within);
        if let Some(engine) = state.engine.upgrade() {
            engine.drain();
        }
        self.change.notify_all();
    }

    /// Returns until when the worker has to be another one, where somebody wants that.
    pub fn renewal(&self) -> Option<Instant> {
        self.lock().renewal
    }

    /// Watches over an engine that has just begun: it is ended as soon as this is set.
    pub fn ends(&self, engine: &Weak<WorkerEngine>) {
        let mut state = self.lock();
        state.engine = engine.clone();
        state.renewal = None;
        if let Some(engine) = engine.upgrade().filter(|_| state.is_set) {
            engine.end();
        }
    }

    /// Waits for so long, or until somebody wants another worker; returns whether it was told to stop.
    pub fn within(&self, pause: Duration) -> bool {
        let waits = |state: &mut StopState| !state.is_set && state.renewal.is_none();
        let waited = self.change.wait_timeout_while(self.lock(), pause, waits);
        let (mut state, _) = waited.unwrap_or_else(PoisonError::into_inner);
        // One wish starts one worker: if that fails, too, pauses are as before.
        state.renewal = None;
        state.is_set
    }

    fn lock(&self) -> MutexGuard<'_, StopState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::{Arc, mpsc};

    /// A pause that nothing but a wish or a stop ends in time for this test.
    const HOUR: Duration = Duration::from_secs(3_600);

    /// Pauses for an hour on another thread; the channel has the result of the pause.
    fn pause(stop: &Arc<Stop>) -> mpsc::Receiver<bool> {
        let (over, is_over) = mpsc::channel();
        let stop = stop.clone();
        std::thread::spawn(move || over.send(stop.within(HOUR)));
        is_over
    }

    #[test]
    fn a_pause_ends_early_for_somebody_who_wants_another_worker_and_only_once() {
        let stop = Arc::new(Stop::default());
        let ends = |pause: mpsc::Receiver<bool>| pause.recv_timeout(Duration::from_secs(60));
        stop.renew(Duration::ZERO);
        assert_eq!(ends(pause(&stop)), Ok(false), "it was wanted before");
        assert!(stop.renewal().is_none());
        let next = pause(&stop);
        assert_eq!(
            next.recv_timeout(Duration::from_millis(50)),
            Err(mpsc::RecvTimeoutError::Timeout),
            "one wish ends one pause"
        );
        stop.renew(Duration::ZERO);
        assert_eq!(ends(next), Ok(false));
        let last = pause(&stop);
        let waits = last.recv_timeout(Duration::from_millis(50));
        assert_eq!(waits, Err(mpsc::RecvTimeoutError::Timeout), "the pause has no end yet");
        stop.set();
        assert_eq!(ends(last), Ok(true));
        assert_eq!(ends(pause(&stop)), Ok(true), "it stays set");
    }
}
