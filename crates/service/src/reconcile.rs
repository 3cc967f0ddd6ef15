//! Brings endpoints back that could not be started for a reason that may pass.

use crate::endpoints::{self, Resting};
use crate::event_log::SERVICE;
use crate::loops::Loops;
use crate::park::Rouser;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use vastrelay_fleet::reconcile::{Step, Wanted, next_step};
use vastrelay_fleet::roster::Found;
use vastrelay_store::Standing;
use vastrelay_wire::manage::EventKind;

/// Starts endpoints whose time has come, each on a separate thread.
pub(crate) struct Reconciler {
    rouser: Rouser,
    loops: Arc<Loops>,
    /// Endpoints that have such a thread.
    under_way: Arc<Mutex<BTreeSet<String>>>,
}

impl Reconciler {
    pub fn new(rouser: Rouser, loops: Arc<Loops>) -> Reconciler {
        Reconciler {
            rouser,
            loops,
            under_way: Arc::default(),
        }
    }

    /// Begins to start endpoints whose time has come.
    pub fn look(&self) {
        for (name, resting) in self.rouser.endpoints.resting() {
            let is_new = || {
                self.under_way
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .insert(name.clone())
            };
            if !is_due(Wanted::Served, &resting) || !is_new() {
                continue;
            }
            let (rouser, loops, under_way) = (self.rouser.clone(), self.loops.clone(), self.under_way.clone());
            let named = name.clone();
            let work = move || {
                loops.guard("reconciling", || bring_back(&rouser, &named));
                under_way.lock().unwrap_or_else(PoisonError::into_inner).remove(&named);
            };
            if let Err(error) = std::thread::Builder::new().name("reconcile".into()).spawn(work) {
                tracing::warn!(%error, endpoint = name, "it cannot be brought back yet");
                self.under_way
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .remove(&name);
            }
        }
    }
}

/// Returns what somebody wants of an endpoint, as it is kept.
pub fn wanted(standing: Standing) -> Wanted {
    match standing {
        Standing::Served => Wanted::Served,
        Standing::Stopped => Wanted::Stopped,
        Standing::Parked => Wanted::Parked,
    }
}

fn is_due(wanted: Wanted, resting: &Resting) -> bool {
    let found: Found<'_, (), Instant> = Found::Resting(resting);
    next_step(wanted, &found, resting.since.elapsed()) == Step::Start
}

/// Serves an endpoint again as it was kept, if somebody still wants that.
fn bring_back(rouser: &Rouser, name: &str) {
    // Whoever changes it just now has other plans, or has tried it meanwhile.
    let Ok(_changing) = rouser.endpoints.change(name) else {
        return;
    };
    let (resting, kept) = (
        rouser.endpoints.resting().remove(name),
        rouser.records.store.kept_endpoint(name),
    );
    let is_due = match (&resting, &kept) {
        (Some(resting), Ok(Some(kept))) => is_due(wanted(kept.standing), resting),
        _ => false,
    };
    if !is_due {
        return;
    }
    let planned = rouser
        .loader
        .plan_kept(&rouser.endpoints, &rouser.records, name, SERVICE);
    let begun = planned.and_then(|planned| planned.put_down_as(EventKind::Started).begin());
    match begun {
        Ok(endpoint) => tracing::info!(endpoint = endpoint.name, "brought back"),
        Err(error) => drop(rouser.endpoints.rest(name, endpoints::failed_by(&error))),
    }
}
