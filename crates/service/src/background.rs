//! The loops of a service, and the purpose of each.

use crate::herald::Herald;
use crate::live::sampler::Looks;
use crate::loops::Running;
use crate::manage::status::service_status;
use crate::park;
use crate::reconcile::Reconciler;
use crate::state::ServiceState;
use crate::summary::Summaries;
use actix_web::web;
use reqwest::Url;
use std::time::Duration;

/// Time between two looks of most loops.
const EVERY: Duration = Duration::from_millis(250);

/// Begins all loops of a service; they run until the result is dropped. Every `summary` a line for each endpoint goes to the log, if it did
/// anything. The address learns of each endpoint that becomes ready or fails.
pub(crate) fn begin(state: &web::Data<ServiceState>, summary: Option<Duration>, tell: Option<Url>) -> Running {
    let mut running = Running::default();
    let loops = state.life.loops.clone();
    let of = state.clone();
    loops.begin(&mut running, "measuring", EVERY, Looks::default, move |looks| {
        looks.all(&of)
    });
    let of = state.clone();
    loops.begin(
        &mut running,
        "status",
        EVERY,
        || (),
        move |()| {
            if of.live.has_listeners() {
                of.live
                    .tell("status", &service_status(&of.endpoints, &of.records, &of.life));
            }
        },
    );
    let rouser = state.rouser();
    let parking = loops.begin_thread(&mut running, "parking", EVERY, move || park::look(&rouser));
    if let Err(error) = parking {
        tracing::error!(%error, "no endpoint is parked or stopped by itself");
    }
    let reconciler = Reconciler::new(state.rouser(), loops.clone());
    loops.begin(&mut running, "reconciling", EVERY, || (), move |()| reconciler.look());
    if let Some(every) = summary {
        let of = state.clone();
        loops.begin(&mut running, "summaries", every, Summaries::new, move |summaries| {
            summaries.write(&of.endpoints)
        });
    }
    if let Some(to) = tell {
        let of = state.clone();
        let herald = move || {
            let herald = Herald::of(to.clone());
            herald
                .inspect_err(|error| tracing::error!(%error, "no address learns of endpoints"))
                .ok()
        };
        loops.begin(&mut running, "webhooks", EVERY, herald, move |herald| {
            herald.iter_mut().for_each(|herald| herald.look(&of.endpoints));
        });
    }
    running
}
