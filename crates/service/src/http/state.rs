//! The state that handlers share. Each handler takes the parts that it uses.

use crate::access::operator::Operator;
use crate::access::sessions::{Holder, Sessions};
use crate::http::budget::Budget;
use crate::http::guard::limits::KeyLimits;
use crate::http::guard::pace::Pace;
use crate::http::guard::reach::Reach;
use crate::http::load_tests::LoadTests;
use crate::http::records::Records;
use crate::http::text_threads::TextThreads;
use crate::lifecycle::run::ServiceRun;
use crate::telemetry::live::Live;
use crate::telemetry::metrics::Metrics;
use actix_web::web;
use std::io;
use std::sync::Arc;
use std::time::Instant;
use vastrelay_control::builds::Builds;
use vastrelay_control::control_loop::{Change, Control, SpecText};
use vastrelay_control::deployments::request::DeployRequest;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::jobs::Jobs;
use vastrelay_control::placement::loader::Loader;
use vastrelay_fleet::State;
use vastrelay_fleet::decider::Outcome;
use vastrelay_serving::process::Program;
use vastrelay_serving::{Model, Replica};
use vastrelay_store::Store;

/// The loop of the control plane, by name.
const CONTROL: &str = "control";
/// Most bytes of all larger bodies that are on their way.
const MOST_BODIES: usize = 256 << 20;
/// Most bytes of all smaller bodies that are on their way.
const MOST_SMALL_BODIES: usize = 64 << 20;
/// Most bytes that all large answers may grow to together.
const MOST_ANSWERS: usize = 128 << 20;

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
    /// The endpoints for calls.
    pub endpoints: Arc<Endpoints>,
    /// Changes endpoints.
    pub control: Control,
    /// Deploys further endpoints.
    pub loader: Arc<Loader>,
    /// Calls, keys, runs and history.
    pub records: Arc<Records>,
    /// Its start, and whether it is ending.
    pub service_run: Arc<ServiceRun>,
    pub(crate) metrics: Arc<Metrics>,
    pub(crate) live: Arc<Live>,
    pub(crate) load_tests: Arc<LoadTests>,
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
    /// Returns the parts of a service that has just started, and knows the endpoints that are stored.
    ///
    /// # Errors
    /// When the system refuses a thread, or the database cannot be read.
    pub fn new(mut loader: Loader, store: Store, reach: Reach, options: StateOptions) -> io::Result<ServiceState> {
        let (endpoints, service_run) = (Arc::new(Endpoints::default()), ServiceRun::start());
        let lost = store.lost();
        let records = Arc::new(Records::new(store));
        let jobs = Arc::new(Jobs::new(records.store.clone()));
        if let Some((program, available)) = options.converter.clone() {
            let builds = Builds::open(&loader.data, program, records.store.clone(), jobs.clone(), available);
            loader.builds = builds
                .inspect_err(|error| tracing::error!(%error, "builds cannot be kept; each worker converts its model"))
                .ok();
        }
        let loader = Arc::new(loader);
        let metrics = Metrics::new(endpoints.clone(), loader.clone(), &service_run, lost);
        let loops = service_run.loops.clone();
        loops.add(CONTROL);
        let on_panic = Box::new(move |why| loops.note_restart(CONTROL, why));
        let control = Control::start(&loader, &records.store, &jobs, &endpoints, on_panic)?;
        Ok(ServiceState {
            endpoints,
            control,
            loader,
            records,
            jobs,
            service_run: Arc::new(service_run),
            metrics: Arc::new(metrics),
            live: Arc::default(),
            load_tests: Arc::default(),
            limits: Arc::default(),
            sessions: Sessions::default(),
            text_threads: Arc::new(TextThreads::start(options.templates.clone())),
            options,
            reach,
            bodies: Budget::new(MOST_BODIES),
            small_bodies: Budget::new(MOST_SMALL_BODIES),
            pace: Pace::new(),
            answers: Budget::new(MOST_ANSWERS),
        })
    }

    /// Carries out a deploy request, as a caller would, and hears of the endpoint as soon as it has its place; returns when it is ready.
    ///
    /// # Errors
    /// Why it cannot be served, for people.
    pub async fn deploy(
        &self,
        request: &DeployRequest,
        mut has_place: impl FnMut(&Endpoint),
    ) -> Result<Arc<Endpoint>, String> {
        let change = Change::Deploy {
            spec: SpecText::of(request),
            from_release: None,
            with_pause: false,
        };
        let mut changes = self.endpoints.changes();
        let accepted = self.control.change(&request.name, &request.by, change).await;
        let accepted = accepted.map_err(|refused| format!("`{}` cannot be served: {refused:?}", request.name))?;
        let over = accepted.over();
        let mut over = std::pin::pin!(over);
        let mut has_told = false;
        let outcome = loop {
            let found = self
                .endpoints
                .coming(&request.name)
                .or_else(|| self.endpoints.get(&request.name).ok());
            if let Some(endpoint) = found.filter(|_| !has_told) {
                has_told = true;
                has_place(&endpoint);
            }
            tokio::select! {
                outcome = &mut over => break outcome,
                // The sender is the endpoints' own.
                _ = changes.changed() => {}
            }
        };
        match outcome {
            Outcome::Reached => self.endpoints.get(&request.name).map_err(|problem| problem.to_string()),
            Outcome::Replaced { .. } | Outcome::GivenUp { .. } => Err(accepted.text()),
        }
    }

    /// Waits until an endpoint of an earlier service is no longer being started, and hears of it as soon as it has its place; returns its state.
    pub async fn wait_for_start(&self, name: &str, mut has_place: impl FnMut(&Endpoint)) -> Option<State> {
        let mut changes = self.endpoints.changes();
        let mut has_told = false;
        loop {
            let found = self.endpoints.get(name).ok();
            let mut of_replicas = found.as_ref().map(|endpoint| endpoint.replicas.changes());
            if let Some(endpoint) = found.filter(|_| !has_told) {
                has_told = true;
                has_place(&endpoint);
            }
            match self.endpoints.state_of(name) {
                Ok(State::Starting) => {}
                Ok(state) => return Some(state),
                Err(_) if self.endpoints.expects_more() => {}
                Err(_) => return None,
            }
            match &mut of_replicas {
                None => drop(changes.changed().await),
                Some(replicas) => tokio::select! {
                    _ = changes.changed() => {}
                    _ = replicas.changed() => {}
                },
            }
        }
    }

    /// Serves a replica of this process, without the control plane.
    pub fn serve(&self, name: &str, model: Arc<Model>, replica: Replica) {
        let endpoint = Endpoint::new(name, 1, model, replica.plan.clone());
        endpoint.replicas.place(replica);
        self.endpoints.put(Arc::new(endpoint));
    }

    /// Returns whether prompts and answers of an endpoint's calls are kept.
    pub(crate) fn keeps_texts(&self, endpoint: &Endpoint) -> bool {
        endpoint
            .answer_settings
            .said
            .keeps_texts
            .unwrap_or(self.options.keeps_texts)
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
        self.control.end();
    }

    /// Lends its parts to handlers.
    pub(crate) fn lend(&self, config: &mut web::ServiceConfig) {
        config
            .app_data(web::Data::from(self.endpoints.clone()))
            .app_data(web::Data::from(self.loader.clone()))
            .app_data(web::Data::from(self.records.clone()))
            .app_data(web::Data::from(self.service_run.clone()))
            .app_data(web::Data::from(self.metrics.clone()))
            .app_data(web::Data::from(self.live.clone()))
            .app_data(web::Data::from(self.load_tests.clone()))
            .app_data(web::Data::from(self.jobs.clone()))
            .app_data(web::Data::from(self.text_threads.clone()))
            .app_data(web::Data::from(self.limits.clone()))
            .app_data(web::Data::new(self.control.clone()));
    }
}
