//! The loops of a service, and the purpose of each.

use crate::http::state::ServiceState;
use crate::lifecycle::loops::Running;
use crate::manage::status::service_status;
use crate::server::sampler::Sampler;
use crate::server::summary::Summaries;
use crate::telemetry::webhook::Webhook;
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
pub(crate) fn start(state: &web::Data<ServiceState>, summary: Option<Duration>, tell: Option<Url>) -> Running {
    let mut running = Running::default();
    let loops = state.service_run.loops.clone();
    let of = state.clone();
    loops.start(&mut running, "measuring", EVERY, Sampler::default, move |sampler| {
        sampler.all(&of)
    });
    let of = state.clone();
    loops.start(
        &mut running,
        "status",
        EVERY,
        || (),
        move |()| {
            if of.live.has_listeners() {
                of.live
                    .send("status", &service_status(&of.endpoints, &of.records, &of.service_run));
            }
        },
    );
    let of = state.clone();
    let park = move |noticed: &mut Noticed| park_and_stop(&of.control, &of.endpoints, noticed);
    loops.start(&mut running, "parking", EVERY, Noticed::default, park);
    if let Some(every) = summary {
        let of = state.clone();
        loops.start(&mut running, "summaries", every, Summaries::new, move |summaries| {
            summaries.write(&of.endpoints)
        });
    }
    if let Some(to) = tell {
        let of = state.clone();
        let webhook = move || {
            let webhook = Webhook::of(to.clone());
            webhook
                .inspect_err(|error| tracing::error!(%error, "no address learns of endpoints"))
                .ok()
        };
        loops.start(&mut running, "webhooks", EVERY, webhook, move |webhook| {
            webhook.iter_mut().for_each(|webhook| webhook.look(&of.endpoints));
        });
    }
    running
}

/// The endpoints with a stop under way, and the time of its request.
type Noticed = HashMap<String, Instant>;

/// Tells the control plane of endpoints that are idle, and stops those whose time is over.
fn park_and_stop(control: &Control, endpoints: &Endpoints, noticed: &mut Noticed) {
    noticed.retain(|_, at| at.elapsed() < STOP_AGAIN);
    for endpoint in endpoints.all() {
        match endpoint.due() {
            Some(Due::Park) => control.is_idle(&endpoint.name),
            Some(Due::Stop) if !noticed.contains_key(&endpoint.name) => {
                noticed.insert(endpoint.name.clone(), Instant::now());
                control.stop_in_time(&endpoint.name, LAST_CALLS);
            }
            Some(Due::Stop) | None => {}
        }
    }
}
