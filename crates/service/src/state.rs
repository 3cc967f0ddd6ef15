//! What all handlers share.

use crate::problem::Problem;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use vastrelay_serving::Replica;
use vastrelay_store::Store;

/// The service's models and records.
pub struct ServiceState {
    models: BTreeMap<String, Arc<Replica>>,
    /// Where calls are recorded.
    pub store: Store,
    started: Instant,
    started_at: u64,
    draining: AtomicBool,
    pub(crate) active_calls: AtomicUsize,
}

impl ServiceState {
    /// Returns the state of a service that has just started.
    pub fn new(models: Vec<Replica>, store: Store) -> ServiceState {
        ServiceState {
            models: models
                .into_iter()
                .map(|replica| (replica.name.clone(), Arc::new(replica)))
                .collect(),
            store,
            started: Instant::now(),
            started_at: seconds_since_1970(),
            draining: AtomicBool::new(false),
            active_calls: AtomicUsize::new(0),
        }
    }

    /// Returns the models by name.
    pub fn models(&self) -> impl Iterator<Item = &Arc<Replica>> {
        self.models.values()
    }

    /// Returns a model.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn model(&self, name: &str) -> Result<&Arc<Replica>, Problem> {
        self.models
            .get(name)
            .ok_or_else(|| Problem::unknown_model(name, self.models.keys()))
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

    /// Returns the number of calls that are being answered.
    pub fn active_calls(&self) -> usize {
        self.active_calls.load(Ordering::Acquire)
    }

    /// Returns how the service stands: `ready`, `draining` or `failed`.
    pub fn condition(&self) -> &'static str {
        if self.draining.load(Ordering::Acquire) {
            "draining"
        } else if self
            .models
            .values()
            .any(|replica| replica.generate.status().failure.is_some())
        {
            "failed"
        } else {
            "ready"
        }
    }
}

/// Returns the time in seconds since 1970.
pub(crate) fn seconds_since_1970() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |time| time.as_secs())
}
