//! What all handlers share.

use crate::guard::{KeyLimits, Reach};
use crate::live::Live;
use crate::load::Loads;
use crate::metrics::Metrics;
use crate::models::Loader;
use crate::problem::Problem;
use crate::recent::Recent;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use vastrelay_serving::Replica;
use vastrelay_store::Store;

/// The models that are served, by name.
#[derive(Clone, Default)]
pub(crate) struct Models(Arc<RwLock<BTreeMap<String, Arc<Replica>>>>);

impl Models {
    /// Returns all of them, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Replica>> {
        let models = self.0.read().unwrap_or_else(PoisonError::into_inner);
        models.values().cloned().collect()
    }
}

/// The service's models, records and figures.
pub struct ServiceState {
    models: Models,
    /// How more of them are loaded.
    pub loader: Loader,
    /// Where calls, keys and runs are kept.
    pub store: Store,
    /// Whether prompts and answers are kept with the calls.
    pub keeps_texts: bool,
    pub(crate) reach: Reach,
    pub(crate) limits: KeyLimits,
    pub(crate) metrics: Metrics,
    pub(crate) recent: Recent,
    pub(crate) live: Live,
    pub(crate) loads: Loads,
    started: Instant,
    started_at: u64,
    draining: AtomicBool,
    pub(crate) active_calls: Arc<AtomicUsize>,
}

impl ServiceState {
    /// Returns the state of a service that has just started.
    pub fn new(replicas: Vec<Replica>, loader: Loader, store: Store, reach: Reach, keeps_texts: bool) -> ServiceState {
        let models = Models::default();
        let active_calls = Arc::new(AtomicUsize::new(0));
        let state = ServiceState {
            metrics: Metrics::new(models.clone(), active_calls.clone()),
            recent: Recent::default(),
            limits: KeyLimits::default(),
            live: Live::default(),
            loads: Loads::default(),
            models,
            loader,
            store,
            keeps_texts,
            reach,
            started: Instant::now(),
            started_at: seconds_since_1970(),
            draining: AtomicBool::new(false),
            active_calls,
        };
        for replica in replicas {
            state.add_model(replica);
        }
        state
    }

    /// Serves one model more; returns `None` when its name is taken.
    pub fn add_model(&self, replica: Replica) -> Option<Arc<Replica>> {
        let mut models = self.models.0.write().unwrap_or_else(PoisonError::into_inner);
        if models.contains_key(&replica.name) {
            return None;
        }
        let replica = Arc::new(replica);
        self.recent.add(&replica.name);
        models.insert(replica.name.clone(), replica.clone());
        Some(replica)
    }

    /// Returns the models by name.
    pub fn models(&self) -> Vec<Arc<Replica>> {
        self.models.all()
    }

    /// Returns a model.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn model(&self, name: &str) -> Result<Arc<Replica>, Problem> {
        let models = self.models.0.read().unwrap_or_else(PoisonError::into_inner);
        let found = models.get(name).cloned();
        found.ok_or_else(|| Problem::unknown_model(name, models.keys()))
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
            .models()
            .iter()
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
