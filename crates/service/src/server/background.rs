//! The loops of a service, and the purpose of each.

use crate::telemetry::webhook::Herald;
use crate::server::sampler::Looks;
use crate::lifecycle::loops::Running;
use crate::manage::status::service_status;
use crate::http::state::ServiceState;
use crate::server::summary::Summaries;
use actix_web::web;
use reqwest::Url;
use std::collections::HashMap;
use std::time::{Duration, Instant};
use vastrelay_control::control_loop::Control;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_fleet::upkeep::Due;

/// Time between two looks of most loops.
const EVERY: Duration = Duration::from_millis(250);

/// Time between two tries to stop an endpoint whose time is over.
const STOP_AGAIN: Duration = Duration::from_secs(10);

/// How long calls have to end of an endpoint whose time is over.
const LAST_CALLS: Duration = Duration::from_secs(30);

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
    let of = state.clone();
    let park = move |told: &mut Told| park_and_stop(&of.control, &of.endpoints, told);
    loops.begin(&mut running, "parking", EVERY, Told::default, park);
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

/// The endpoints with an order to stop, and its time.
type Told = HashMap<String, Instant>;

/// Tells the control plane of endpoints that are idle, and stops those whose time is over.
fn park_and_stop(control: &Control, endpoints: &Endpoints, told: &mut Told) {
    told.retain(|_, at| at.elapsed() < STOP_AGAIN);
    for endpoint in endpoints.all() {
        match endpoint.due() {
            Some(Due::Park) => control.is_idle(&endpoint.name),
            Some(Due::Stop) if !told.contains_key(&endpoint.name) => {
                told.insert(endpoint.name.clone(), Instant::now());
                control.stop_in_time(&endpoint.name, LAST_CALLS);
            }
            Some(Due::Stop) | None => {}
        }
    }
}
