//! What all handlers share.

use crate::budget::Budget;
use crate::guard::limits::KeyLimits;
use crate::guard::pace::Pace;
use crate::guard::reach::Reach;
use crate::live::Live;
use crate::loader::Loader;
use crate::loads::Loads;
use crate::metrics::Metrics;
use crate::problem::Problem;
use crate::recent::Recent;
use crate::served::{Models, has_failed};
use crate::text_pool::{TemplateProgram, TextPool};
use actix_web::web;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tokio::sync::Semaphore;
use tokio::time::timeout;
use vastrelay_serving::Replica;
use vastrelay_store::{Store, StoreError};

/// Most uses of the database at the same time, key look-ups and records aside.
const MOST_DATABASE: usize = 16;
/// Most bytes of all larger bodies that are on their way.
const MOST_BODIES: usize = 256 << 20;
/// Most bytes that all large answers may grow to together.
const MOST_ANSWERS: usize = 128 << 20;
/// Longest wait to use it.
const DATABASE_PATIENCE: Duration = Duration::from_secs(5);

/// What a service does besides answering.
#[derive(Clone, Debug, Default)]
pub struct StateOptions {
    /// Keep prompts and answers with the calls.
    pub keeps_texts: bool,
    /// Let callers with different keys find each other's prompts in the cache.
    pub shares_cache: bool,
    /// Render chat templates in a process of their own; in this one when absent.
    pub templates: Option<TemplateProgram>,
}

/// The service's models, records and figures.
pub struct ServiceState {
    models: Models,
    /// Loads further models.
    pub loader: Loader,
    /// Calls, keys and runs.
    pub store: Store,
    pub(crate) options: StateOptions,
    pub(crate) reach: Reach,
    pub(crate) bodies: Budget,
    pub(crate) pace: Pace,
    pub(crate) answers: Budget,
    pub(crate) text_pool: TextPool,
    database: Semaphore,
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
    pub fn new(
        replicas: Vec<Replica>,
        loader: Loader,
        store: Store,
        reach: Reach,
        options: StateOptions,
    ) -> ServiceState {
        let models = Models::default();
        let active_calls = Arc::new(AtomicUsize::new(0));
        let state = ServiceState {
            metrics: Metrics::new(models.clone(), active_calls.clone(), store.lost()),
            recent: Recent::default(),
            limits: KeyLimits::default(),
            live: Live::default(),
            loads: Loads::default(),
            models,
            loader,
            store,
            text_pool: TextPool::start(options.templates.clone()),
            options,
            reach,
            bodies: Budget::new(MOST_BODIES),
            pace: Pace::new(),
            answers: Budget::new(MOST_ANSWERS),
            database: Semaphore::new(MOST_DATABASE),
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

    /// Uses the database on a thread that may wait for it.
    ///
    /// # Errors
    /// 503 when it is busy, 500 when it fails.
    pub(crate) async fn database<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, Problem> {
        let permit = timeout(DATABASE_PATIENCE, self.database.acquire()).await;
        let _permit = permit.map_err(|_| Problem::database_busy())?;
        let state = self.clone();
        let done = web::block(move || work(&state.store)).await;
        done.map_err(|error| Problem::internal(error.to_string()))?
            .map_err(|error| match error.is_busy() {
                true => Problem::database_busy(),
                false => Problem::internal(error.to_string()),
            })
    }

    /// Stops serving a model and returns it. Calls that are being answered go on until they end.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub(crate) fn remove_model(&self, name: &str) -> Result<Arc<Replica>, Problem> {
        let mut models = self.models.0.write().unwrap_or_else(PoisonError::into_inner);
        let removed = models.remove(name);
        let removed = removed.ok_or_else(|| Problem::unknown_model(name, models.keys()))?;
        self.recent.remove(name);
        Ok(removed)
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

    /// Returns whether no new requests are taken.
    pub fn is_draining(&self) -> bool {
        self.draining.load(Ordering::Acquire)
    }

    /// Returns the service's state: `draining`; `failed` when every model has; `degraded` when some have; else `ready`.
    pub fn condition(&self) -> &'static str {
        if self.is_draining() {
            return "draining";
        }
        let models = self.models();
        let failed = models.iter().filter(|model| has_failed(model)).count();
        match failed {
            0 => "ready",
            some if some < models.len() => "degraded",
            _ => "failed",
        }
    }
}

/// Returns the time in seconds since 1970.
pub(crate) fn seconds_since_1970() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |time| time.as_secs())
}
