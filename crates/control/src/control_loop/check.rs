//! A check of a request: how its endpoint would be served, without serving it.

use crate::control_loop::{Make, Opened, PlacementOption};
use crate::deployments::request::DeployRequest;
use crate::endpoints::endpoint::Endpoint;
use crate::endpoints::registry::Endpoints;
use crate::placement::loader::Loader;
use crate::replicas::state::ReplicaState;
use std::sync::Arc;
use vastrelay_fleet::decider::Failure;
use vastrelay_serving::worker::protocol::StartPhase;

/// How the endpoint of a request would be served.
pub struct Check {
    /// The endpoint as it would be; why there is no room for it beside what is served under its name.
    pub plan: Result<Endpoint, String>,
    /// The release that is served under its name.
    pub served: Option<u32>,
    /// Whether anything would be different.
    pub is_change: bool,
    /// Whether the replicas would stay.
    pub at_once: bool,
}

impl Loader {
    /// Returns how a request would be served, without serving it or holding its memory.
    ///
    /// # Errors
    /// When it could not be.
    pub fn check(&self, endpoints: &Endpoints, request: &DeployRequest) -> Result<Check, Failure> {
        let served = endpoints.get(&request.name).ok();
        let opened = self.open(request).map_err(|error| error.failure())?;
        let before = served.as_ref().and_then(|endpoint| endpoint.release_fingerprint());
        let is_change = before != Some(&opened.fingerprint);
        let at_once = before.is_some_and(|before| before.runs_on_same_replicas_as(&opened.fingerprint));
        let plan = match &served {
            Some(old) if at_once => Ok(Endpoint::with_replicas_of(old, 0)
                .with_fingerprint(opened.fingerprint.clone(), old.machine().clone())
                .read_from(opened.files.path())
                .answering(opened.answer_settings.clone(), opened.fingerprint.upkeep)),
            _ => match self.plan(endpoints, request, &opened) {
                Err(failure) if served.is_some() && failure.is_for_want_of_room() => Err(failure.why),
                plan => Ok(plan?),
            },
        };
        Ok(Check {
            plan,
            served: served.as_ref().map(|endpoint| endpoint.release),
            is_change,
            at_once,
        })
    }

    /// Returns the endpoint of a request as it would start.
    fn plan(&self, endpoints: &Endpoints, request: &DeployRequest, opened: &Opened) -> Result<Endpoint, Failure> {
        let options = self.find_options(request, opened, Make::Later);
        let options = options.map_err(|error| error.failure())?;
        let needs: Vec<_> = options.iter().map(|option| option.sizing.clone()).collect();
        let mut ledgers = endpoints.ledgers();
        for PlacementOption { sizing, .. } in &options {
            let device = &sizing.settings().device;
            ledgers.add(device.name(), device.count(), device.total(), device.core_ledger());
        }
        let taken = ledgers.would_take(&request.name, &needs)?;
        let option = options
            .iter()
            .find(|option| option.sizing.settings().device.name() == taken.device);
        let option = option.ok_or_else(|| Failure::other(format!("there is no device `{}`", taken.device)))?;
        let plan = option.sizing.place(taken, false).map_err(|error| error.failure())?;
        let endpoint = Endpoint::new(&request.name, 0, opened.model.clone(), Arc::new(plan));
        endpoint.replicas.comes_back(
            crate::control_loop::FIRST,
            ReplicaState::Starting(StartPhase::StartingWorker),
        );
        Ok(endpoint)
    }
}
