//! What handlers share. Each takes the parts that it uses.

use crate::budget::Budget;
use crate::builds::Builds;
use crate::endpoint::Endpoint;
use crate::endpoints::Endpoints;
use crate::guard::limits::KeyLimits;
use crate::guard::pace::Pace;
use crate::guard::reach::Reach;
use crate::jobs::Jobs;
use crate::life::Life;
use crate::live::Live;
use crate::loader::Loader;
use crate::loads::Loads;
use crate::metrics::Metrics;
use crate::operator::Operator;
use crate::park::Rouser;
use crate::records::Records;
use crate::sessions::{Holder, Sessions};
use crate::text_threads::TextThreads;
use actix_web::web;
use std::sync::Arc;
use std::time::Instant;
use vastrelay_serving::process::Program;
use vastrelay_store::Store;

/// Most bytes of all larger bodies that are on their way.
const MOST_BODIES: usize = 256 << 20;
/// Most bytes of all smaller bodies that are on their way.
const MOST_SMALL_BODIES: usize = 64 << 20;
/// Most bytes that all large answers may grow to together.
const MOST_ANSWERS: usize = 128 << 20;

/// How long workers may take to end.
const WORKERS_END: std::time::Duration = std::time::Duration::from_secs(5);

/// What a service does besides answering.
#[derive(Clone, Debug, Default)]
pub struct StateOptions {
    /// Keep prompts and answers with the calls.
    pub keeps_texts: bool,
    /// Let callers with different keys find each other's prompts in the cache.
    pub shares_cache: bool,
    /// Render chat templates in a process of their own; in this one when absent.
    pub templates: Option<Program>,
    /// Converts models in a process of its own, and tells how much memory is free; they are converted by each worker that loads them when absent.
    pub converter: Option<(Program, fn() -> usize)>,
}

/// The parts of a service.
pub struct ServiceState {
    /// What can be called.
    pub endpoints: Arc<Endpoints>,
    /// Deploys further endpoints.
    pub loader: Arc<Loader>,
    /// Calls, keys, runs and history.
    pub records: Arc<Records>,
    /// Since when it runs, and whether it goes on.
    pub life: Arc<Life>,
    pub(crate) metrics: Arc<Metrics>,
    pub(crate) live: Arc<Live>,
    pub(crate) loads: Arc<Loads>,
    pub(crate) jobs: Arc<Jobs>,
    pub(crate) options: StateOptions,
    pub(crate) reach: Reach,
    pub(crate) bodies: Budget,
    pub(crate) small_bodies: Budget,
    pub(crate) pace: Pace,
    pub(crate) answers: Budget,
    pub(crate) text_threads: Arc<TextThreads>,
    pub(crate) limits: Arc<KeyLimits>,
    pub(crate) sessions: Sessions,
}

impl ServiceState {
    /// Returns the parts of a service that has just started and has no endpoints yet.
    pub fn new(mut loader: Loader, store: Store, reach: Reach, options: StateOptions) -> ServiceState {
        let (endpoints, life) = (Arc::new(Endpoints::default()), Life::begin());
        let metrics = Metrics::new(endpoints.clone(), &life, store.lost());
        let records = Arc::new(Records::new(store));
        let jobs = Arc::new(Jobs::new(records.clone()));
        if let Some((program, available)) = options.converter.clone() {
            let builds = Builds::open(&loader.data, program, records.clone(), jobs.clone(), available);
            loader.builds = builds
                .inspect_err(|error| tracing::error!(%error, "builds cannot be kept; each worker converts its model"))
                .ok();
        }
        ServiceState {
            endpoints,
            loader: Arc::new(loader),
            records,
            jobs,
            life: Arc::new(life),
            metrics: Arc::new(metrics),
            live: Arc::default(),
            loads: Arc::default(),
            limits: Arc::default(),
            sessions: Sessions::default(),
            text_threads: Arc::new(TextThreads::start(options.templates.clone())),
            options,
            reach,
            bodies: Budget::new(MOST_BODIES),
            small_bodies: Budget::new(MOST_SMALL_BODIES),
            pace: Pace::new(),
            answers: Budget::new(MOST_ANSWERS),
        }
    }

    /// Returns whether prompts and answers of an endpoint's calls are kept.
    pub(crate) fn keeps_texts(&self, endpoint: &Endpoint) -> bool {
        endpoint.manner.said.keeps_texts.unwrap_or(self.options.keeps_texts)
    }

    /// Returns what starts parked endpoints.
    pub(crate) fn rouser(&self) -> Rouser {
        Rouser {
            endpoints: self.endpoints.clone(),
            loader: self.loader.clone(),
            records: self.records.clone(),
        }
    }

    /// Returns a code that begins one session of the console for the service's own user.
    ///
    /// # Errors
    /// When the system has no random bytes.
    pub fn console_code(&self) -> Result<String, getrandom::Error> {
        self.sessions.offer(Holder::User(Operator::own().name), Instant::now())
    }

    /// Ends all workers.
    pub fn end_workers(&self) {
        self.endpoints.all().iter().for_each(|endpoint| endpoint.crew.let_go());
        if let Some(workers) = &self.loader.workers {
            workers.wait_for_end(WORKERS_END);
        }
    }

    /// Lends its parts to handlers.
    pub(crate) fn lend(&self, config: &mut web::ServiceConfig) {
        config
            .app_data(web::Data::from(self.endpoints.clone()))
            .app_data(web::Data::from(self.loader.clone()))
            .app_data(web::Data::from(self.records.clone()))
            .app_data(web::Data::from(self.life.clone()))
            .app_data(web::Data::from(self.metrics.clone()))
            .app_data(web::Data::from(self.live.clone()))
            .app_data(web::Data::from(self.loads.clone()))
            .app_data(web::Data::from(self.jobs.clone()))
            .app_data(web::Data::from(self.text_threads.clone()))
            .app_data(web::Data::from(self.limits.clone()))
            .app_data(web::Data::new(self.rouser()));
    }
}
