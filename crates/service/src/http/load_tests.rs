//! The load test that the service sends to itself: one at a time.

use crate::http::problem::Problem;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_wire::load::{LoadState, LoadStatus};

/// The newest load test, and how to stop it.
#[derive(Default)]
pub struct LoadTests {
    newest: Mutex<Option<LoadTest>>,
}

pub(crate) struct LoadTest {
    pub status: LoadStatus,
    pub stop: watch::Sender<bool>,
}

impl LoadTests {
    pub(crate) fn lock(&self) -> MutexGuard<'_, Option<LoadTest>> {
        self.newest.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn status(&self) -> Option<LoadStatus> {
        self.lock().as_ref().map(|load| load.status.clone())
    }

    /// Ends the load test that is under way.
    pub(crate) fn stop(&self) {
        if let Some(load) = self.lock().as_ref().filter(|load| is_under_way(&load.status)) {
            let _ = load.stop.send(true);
        }
    }

    /// Waits until no load test is under way, so that a stopped one has saved its run; no longer than a limit.
    pub(crate) async fn wait_for_end(&self, limit: Duration) {
        let begun = Instant::now();
        while begun.elapsed() < limit && self.status().as_ref().is_some_and(is_under_way) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Notes that the newest load test comes to nothing.
    pub(crate) fn give_up(&self, why: &str) {
        if let Some(load) = self.lock().as_mut() {
            load.status.state = LoadState::Failed;
            load.status.failure = Some(why.to_owned());
        }
    }

    /// Takes the only place there is.
    pub(crate) fn begin(&self, status: LoadStatus) -> Result<watch::Receiver<bool>, Problem> {
        let mut newest = self.lock();
        if let Some(load) = newest.as_ref().filter(|load| is_under_way(&load.status)) {
            return Err(Problem::conflict(
                "load_under_way",
                format!(
                    "`{}` is under way, and two load tests would measure each other; DELETE /manage/load ends it",
                    load.status.name
                ),
            ));
        }
        let (stop, stopped) = watch::channel(false);
        *newest = Some(LoadTest { status, stop });
        Ok(stopped)
    }
}

pub(crate) fn is_under_way(status: &LoadStatus) -> bool {
    matches!(status.state, LoadState::Warming | LoadState::Sending)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_load_test_whose_thread_cannot_start_is_over_and_the_next_one_may_begin() {
        let load_tests = LoadTests::default();
        let status = LoadStatus::default();
        assert!(load_tests.begin(status.clone()).is_ok());
        assert!(load_tests.begin(status.clone()).is_err(), "one is under way");
        load_tests.give_up("its thread cannot be started");
        let over = load_tests.status().unwrap();
        assert!(!is_under_way(&over));
        assert_eq!(over.failure.as_deref(), Some("its thread cannot be started"));
        assert!(load_tests.begin(status).is_ok());
    }
}
