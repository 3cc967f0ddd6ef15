//! What all handlers share.

use crate::guard::{KeyLimits, Reach};
use crate::live::Live;
use crate::metrics::Metrics;
use crate::problem::Problem;
use crate::recent::Recent;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use vastrelay_serving::Replica;
use vastrelay_store::Store;

/// The service's models, records and figures.
pub struct ServiceState {
    models: BTreeMap<String, Arc<Replica>>,
    /// Where calls, keys and runs are kept.
    pub store: Store,
    /// Whether prompts and answers are kept with the calls.
    pub keeps_texts: bool,
    pub(crate) reach: Reach,
    pub(crate) limits: KeyLimits,
    pub(crate) metrics: Metrics,
    pub(crate) recent: Recent,
    pub(crate) live: Live,
    started: Instant,
    started_at: u64,
    draining: AtomicBool,
    pub(crate) active_calls: Arc<AtomicUsize>,
}

impl ServiceState {
    /// Returns the state of a service that has just started.
    pub fn new(models: Vec<Replica>, store: Store, reach: Reach, keeps_texts: bool) -> ServiceState {
        let models: BTreeMap<String, Arc<Replica>> = models
            .into_iter()
            .map(|replica| (replica.name.clone(), Arc::new(replica)))
            .collect();
        let active_calls = Arc::new(AtomicUsize::new(0));
        ServiceState {
            metrics: Metrics::new(models.values().cloned().collect(), active_calls.clone()),
            recent: Recent::new(models.keys().cloned()),
            limits: KeyLimits::default(),
            live: Live::default(),
            models,
            store,
            keeps_texts,
            reach,
            started: Instant::now(),
            started_at: seconds_since_1970(),
            draining: AtomicBool::new(false),
            active_calls,
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
