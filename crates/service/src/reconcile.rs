//! Brings endpoints back that could not be started for a reason that may pass.

use crate::endpoints::{self, Resting};
use crate::event_log::SERVICE;
use crate::park::Rouser;
use std::time::Instant;
use vastrelay_fleet::reconcile::{Step, Wanted, next_step};
use vastrelay_fleet::roster::Found;
use vastrelay_store::Standing;
use vastrelay_wire::manage::EventKind;

/// Starts those for which it is time, on threads of their own.
pub(crate) fn look(rouser: &Rouser) {
    for (name, resting) in rouser.endpoints.resting() {
        if !is_due(Wanted::Served, &resting) {
            continue;
        }
        let rouser = rouser.clone();
        let work = move || bring_back(&rouser, &name);
        if let Err(error) = std::thread::Builder::new().name("reconcile".into()).spawn(work) {
            tracing::warn!(%error, "nothing can be brought back");
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
