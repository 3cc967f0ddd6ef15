//! A line in the log for each endpoint that did something.

use crate::manage::status::endpoint_status;
use std::collections::HashMap;
use std::time::Instant;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_wire::manage::{Spread, Totals};

/// Totals of endpoints at the time of the last lines.
pub(crate) struct Summaries {
    before: HashMap<String, Totals>,
    written: Instant,
}

impl Summaries {
    pub fn new() -> Summaries {
        Summaries {
            before: HashMap::new(),
            written: Instant::now(),
        }
    }

    /// Writes a line for each endpoint that has done something since the last ones.
    pub fn write(&mut self, endpoints: &Endpoints) {
        let seconds = self.written.elapsed().as_secs_f64();
        self.written = Instant::now();
        let endpoints = endpoints.all();
        self.before
            .retain(|name, _| endpoints.iter().any(|endpoint| endpoint.name == *name));
        for endpoint in endpoints {
            let before = self.before.entry(endpoint.name.clone()).or_default();
            *before = summarize(&endpoint, *before, seconds);
        }
    }
}

/// Writes the line of one endpoint, unless nothing happened since the last. The totals of a release only grow, unless the endpoint was
/// removed and deployed again.
fn summarize(endpoint: &Endpoint, before: Totals, seconds: f64) -> Totals {
    let status = endpoint_status(endpoint);
    let now = status.totals;
    if now == before && status.occupancy.queue_depth == 0 {
        return now;
    }
    let rate = |from: u64, to: u64| (to.saturating_sub(from) as f64 / seconds).round();
    // Without a value a field is left out: no request began in the last seconds.
    let ms = |spread: &Spread, seconds: f64| (spread.count > 0).then(|| (seconds * 10_000.0).round() / 10.0);
    let (ttft, itl) = (&status.window.ttft, &status.window.itl);
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
        ttft_p50_ms = ms(ttft, ttft.p50),
        ttft_p99_ms = ms(ttft, ttft.p99),
        itl_p50_ms = ms(itl, itl.p50),
        itl_p99_ms = ms(itl, itl.p99),
        "summary"
    );
    now
}
