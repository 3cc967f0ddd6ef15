//! Looks at all replicas, four times a second.

use crate::chronicle::Chronicle;
use crate::endpoint::Endpoint;
use crate::herald::Herald;
use crate::manage::status::{endpoint_status, service_status};
use crate::manage::steps::replica_steps;
use crate::placed::Placed;
use crate::state::ServiceState;
use crate::{park, reconcile};
use actix_web::web;
use reqwest::Url;
use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};
use vastrelay_wire::manage::Totals;

/// Time between two looks.
const EVERY: Duration = Duration::from_millis(250);

/// Looks at the replicas for as long as the service runs; every `summary` it writes a line for each endpoint to the log, if anything
/// happened. The address is told when one becomes ready or fails.
pub(crate) async fn sample(state: web::Data<ServiceState>, summary: Option<Duration>, tell: Option<Url>) {
    let (mut looks, rouser) = (Looks::default(), state.rouser());
    let herald = tell.map(Herald::of).transpose();
    let mut herald = herald
        .inspect_err(|error| tracing::error!(%error, "nobody is told of endpoints"))
        .unwrap_or_default();
    let mut summaries: HashMap<String, Totals> = HashMap::new();
    let mut last_summary = Instant::now();
    let mut ticks = tokio::time::interval(EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        looks.all(&state);
        park::look(&rouser);
        reconcile::look(&rouser);
        herald.iter_mut().for_each(|herald| herald.look(&state.endpoints));
        if state.live.has_listeners() {
            let status = service_status(&state.endpoints, &state.records, &state.life);
            state.live.tell("status", &status);
        }
        if summary.is_some_and(|every| last_summary.elapsed() >= every) {
            let seconds = last_summary.elapsed().as_secs_f64();
            last_summary = Instant::now();
            let endpoints = state.endpoints.all();
            summaries.retain(|name, _| endpoints.iter().any(|endpoint| endpoint.name == *name));
            for endpoint in endpoints {
                let before = summaries.entry(endpoint.name.clone()).or_default();
                *before = summarize(&endpoint, *before, seconds);
            }
        }
    }
}

/// What was seen at the last look.
#[derive(Default)]
struct Looks {
    /// The number of the last step that was counted, by incarnation.
    steps: HashMap<u64, u64>,
    chronicle: Chronicle,
}

impl Looks {
    /// Looks at all replicas, and forgets those that are gone.
    fn all(&mut self, state: &ServiceState) {
        let mut alive = HashSet::new();
        for endpoint in state.endpoints.all() {
            for placed in endpoint.crew.replicas() {
                alive.insert(placed.replica.incarnation);
                self.one(state, &endpoint, &placed);
            }
        }
        self.steps.retain(|incarnation, _| alive.contains(incarnation));
        self.chronicle.keep(|incarnation| alive.contains(&incarnation));
    }

    fn one(&mut self, state: &ServiceState, endpoint: &Endpoint, placed: &Placed) {
        let generate = &placed.replica.generate;
        let status = generate.status();
        placed.recent.note_totals(status.prefill_tokens, status.output_tokens);
        self.chronicle.look(&state.records.store, endpoint, placed, &status);
        let after = self.steps.entry(placed.replica.incarnation).or_default();
        if status.steps > *after {
            let steps = generate.steps_after(*after, usize::MAX);
            *after = steps.last().map_or(*after, |step| step.number);
            endpoint.counted.steps(&steps);
            if state.live.has_listeners() {
                state.live.tell("steps", &replica_steps(endpoint, placed, &steps));
            }
        }
    }
}

/// Writes the line of one endpoint, unless nothing happened since the last. What its release has done before is not less than what it
/// had done then, unless the endpoint was removed and deployed anew.
fn summarize(endpoint: &Endpoint, before: Totals, seconds: f64) -> Totals {
    let status = endpoint_status(endpoint);
    let now = status.totals;
    if now == before && status.occupancy.queue_depth == 0 {
        return now;
    }
    let rate = |from: u64, to: u64| (to.saturating_sub(from) as f64 / seconds).round();
    let ms = |seconds: f64| (seconds * 10_000.0).round() / 10.0;
    let window = &status.window;
    tracing::info!(
        endpoint = status.name,
        release = status.release,
        queue = status.occupancy.queue_depth,
        lanes = status.occupancy.lanes_used,
        width = status.occupancy.lanes,
        kv_pages = status.occupancy.pages_used,
        completions = now.ended.saturating_sub(before.ended),
        preemptions = now.preemptions.saturating_sub(before.preemptions),
        tokens_in_per_s = rate(before.prefill_tokens, now.prefill_tokens),
        tokens_out_per_s = rate(before.output_tokens, now.output_tokens),
        ttft_p50_ms = ms(window.ttft.p50),
        ttft_p99_ms = ms(window.ttft.p99),
        itl_p50_ms = ms(window.itl.p50),
        itl_p99_ms = ms(window.itl.p99),
        "summary"
    );
    now
}
