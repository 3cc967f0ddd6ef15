//! The life of the service: when it began, whether it is about to end, and what is under way.

use crate::lifecycle::loops::Loops;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Instant;
use tokio::sync::Notify;
use vastrelay_store::seconds_since_1970;

/// The life of a service.
pub struct ServiceRun {
    started: Instant,
    started_at: u64,
    draining: AtomicBool,
    /// Told when it is to end though no signal says so.
    stopping: Notify,
    /// Calls that are being answered.
    pub(crate) active_calls: Arc<AtomicUsize>,
    /// Its loops.
    pub(crate) loops: Arc<Loops>,
}

impl ServiceRun {
    /// Returns a life that begins now.
    pub fn start() -> ServiceRun {
        ServiceRun {
            started: Instant::now(),
            started_at: seconds_since_1970(),
            draining: AtomicBool::new(false),
            stopping: Notify::new(),
            active_calls: Arc::default(),
            loops: Arc::default(),
        }
    }

    /// Returns seconds since the service started.
    pub fn uptime(&self) -> f64 {
        self.started.elapsed().as_secs_f64()
    }

    /// Returns when the service started, in seconds since 1970.
    pub fn started_at(&self) -> u64 {
        self.started_at
    }

    /// Stops taking new requests.
    pub fn drain(&self) {
        self.draining.store(true, Ordering::Release);
    }

    /// Ends the service.
    pub fn stop(&self) {
        self.stopping.notify_one();
    }

    /// Waits until [`Self::stop`] is called.
    pub(crate) async fn stopped(&self) {
        self.stopping.notified().await;
    }

    /// Returns the number of calls that are being answered.
    pub fn active_calls(&self) -> usize {
        self.active_calls.load(Ordering::Acquire)
    }

    /// Returns whether no new requests are taken.
    pub fn is_draining(&self) -> bool {
        self.draining.load(Ordering::Acquire)
    }
}
