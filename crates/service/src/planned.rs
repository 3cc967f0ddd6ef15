//! An endpoint that has its place and does not run yet.

use crate::deploy_error::DeployError;
use crate::endpoint::Endpoint;
use crate::event_log::EventLog;
use crate::keeper::{Begins, FIRST, Starter};
use crate::order::Order;
use crate::records::Records;
use crate::stop::Stop;
use crate::worker_log::WorkerLog;
use crate::workers::Workers;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use vastrelay_serving::{LoadError, Replica};
use vastrelay_wire::manage::EventKind;

/// An endpoint that has its place and does not run yet.
pub struct PlannedEndpoint {
    pub(crate) endpoint: Arc<Endpoint>,
    pub(crate) order: Order,
    pub(crate) log: EventLog,
    pub(crate) records: Arc<Records>,
    pub(crate) workers: Option<Arc<Workers>>,
    pub(crate) stop: Arc<Stop>,
    /// What its beginning is, to those who look back.
    pub(crate) what: EventKind,
    /// Takes what its workers say.
    pub(crate) said: Arc<WorkerLog>,
    /// When somebody wanted it.
    pub(crate) wanted: Instant,
    /// How long its build took before, where one was made.
    pub(crate) built: Option<Duration>,
}

impl PlannedEndpoint {
    /// Returns it as one whose beginning is something else than a deployment.
    pub(crate) fn put_down_as(mut self, what: EventKind) -> PlannedEndpoint {
        self.what = what;
        self
    }

    /// Returns the endpoint.
    pub fn endpoint(&self) -> &Arc<Endpoint> {
        &self.endpoint
    }

    /// Starts its replica and waits until that takes requests. Somebody keeps it alive from then on, or tries again later when it cannot be
    /// started.
    ///
    /// # Errors
    /// When the weights cannot be loaded, or the life of the replica cannot be recorded.
    pub fn begin(self) -> Result<Arc<Endpoint>, DeployError> {
        let (records, order) = (self.records.clone(), self.order.clone());
        let from = format!("from {}", order.model().display());
        self.log.done_by(&order.by, self.what, from);
        let endpoint = self.begin_replica()?;
        // What has been served once is brought back by the next service.
        records.store.keep_endpoint(&order.to_keep(), endpoint.release)?;
        Ok(endpoint)
    }

    fn begin_replica(self) -> Result<Arc<Endpoint>, DeployError> {
        let endpoint = self.endpoint;
        let failed = |error| DeployError::load(&endpoint.name, error);
        let begins = Begins {
            records: self.records,
            endpoint: endpoint.name.clone(),
            log: self.log.clone(),
            replica: FIRST,
        };
        let Some(workers) = self.workers else {
            let incarnation = begins.incarnation();
            let replica = endpoint.plan.load_here(&endpoint.model).map_err(failed)?;
            endpoint.crew.place(Replica { incarnation, ..replica });
            return Ok(endpoint);
        };
        let (stop, kept) = (self.stop, Arc::downgrade(&endpoint.crew));
        let starter = Starter {
            workers: workers.clone(),
            plan: endpoint.plan.clone(),
            model: endpoint.model.clone(),
            manner: endpoint.manner.clone(),
            begins,
            log: self.log,
            said: self.said,
            wanted: Mutex::new(Some((self.wanted, self.built))),
        };
        let first = starter.begin(&kept).map(|(replica, begun)| {
            endpoint.crew.place(replica);
            begun
        });
        let failure = first.as_ref().err().map(|stillborn| failed(stillborn.into()));
        let keeper = move || starter.keep(&kept, first, &stop);
        workers.keep(keeper).map_err(|error| failed(LoadError::Thread(error)))?;
        failure.map_or(Ok(endpoint), Err)
    }
}
