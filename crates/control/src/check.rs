//! Checking how an order would be served, without serving it.

use crate::control::{Make, Opened, Way};
use crate::endpoint::Endpoint;
use crate::endpoints::Endpoints;
use crate::loader::Loader;
use crate::order::Order;
use crate::standing::Life;
use std::sync::Arc;
use vastrelay_fleet::decider::Failure;
use vastrelay_serving::worker::protocol::Phase;

/// How an order would be served.
pub struct Check {
    /// The endpoint as it would be; why there is no room for it beside what is served under its name.
    pub planned: Result<Endpoint, String>,
    /// The release that is served under its name.
    pub served: Option<u32>,
    /// Whether anything would be different.
    pub is_change: bool,
    /// Whether the replicas would stay.
    pub at_once: bool,
    /// How many sequences fit of the typical length that the spec says.
    pub typical: Option<usize>,
}

impl Loader {
    /// Returns how an order would be served, without serving it or holding its memory.
    ///
    /// # Errors
    /// When it could not be.
    pub fn check(&self, endpoints: &Endpoints, order: &Order) -> Result<Check, Failure> {
        let served = endpoints.get(&order.name).ok();
        let opened = self.open(order).map_err(|error| error.failure())?;
        let before = served.as_ref().and_then(|endpoint| endpoint.made_of());
        let is_change = before != Some(&opened.made_of);
        let at_once = before.is_some_and(|before| before.has_machine_of(&opened.made_of));
        let planned = match &served {
            Some(old) if at_once => Ok(Endpoint::with_crew_of(old, 0)
                .made_of_this(opened.made_of.clone(), old.machine().clone())
                .read_from(opened.files.path())
                .minded(opened.manner.clone(), opened.made_of.upkeep)),
            _ => match self.planned(endpoints, order, &opened) {
                Err(failure) if served.is_some() && failure.is_for_want_of_room() => Err(failure.why),
                planned => Ok(planned?),
            },
        };
        let typical = opened.made_of.settings.typical.zip(planned.as_ref().ok());
        let typical = typical.map(|(typical, endpoint)| {
            let step_budget = endpoint.limits().step_budget;
            endpoint.plan.memory.sequences_of(typical.tokens(), step_budget)
        });
        Ok(Check {
            typical,
            planned,
            served: served.as_ref().map(|endpoint| endpoint.release),
            is_change,
            at_once,
        })
    }

    /// Returns an order's endpoint as it would begin.
    fn planned(&self, endpoints: &Endpoints, order: &Order, opened: &Opened) -> Result<Endpoint, Failure> {
        let ways = self.find_ways(order, opened, Make::Later);
        let ways = ways.map_err(|error| error.failure())?;
        let needs: Vec<_> = ways.iter().map(|way| way.sizing.clone()).collect();
        let mut ledgers = endpoints.ledgers();
        for Way { sizing, .. } in &ways {
            let device = &sizing.settings().device;
            ledgers.add(device.name(), device.count(), device.total(), device.core_ledger());
        }
        let taken = ledgers.would_take(&order.name, &needs)?;
        let way = ways
            .iter()
            .find(|way| way.sizing.settings().device.name() == taken.device);
        let way = way.ok_or_else(|| Failure::other(format!("there is no device `{}`", taken.device)))?;
        let plan = way.sizing.place(taken, false).map_err(|error| error.failure())?;
        let endpoint = Endpoint::new(&order.name, 0, opened.model.clone(), Arc::new(plan));
        endpoint
            .crew
            .comes_back(crate::control::FIRST, Life::Starting(Phase::StartingWorker));
        Ok(endpoint)
    }
}
