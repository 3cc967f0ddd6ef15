//! Looks at all engines, four times a second.

use crate::chronicle::Chronicle;
use crate::manage;
use crate::state::ServiceState;
use actix_web::web;
use std::collections::HashMap;
use std::time::{Duration, Instant};
use vastrelay_serving::Replica;
use vastrelay_wire::manage::LiveSteps;

/// Time between two looks.
const EVERY: Duration = Duration::from_millis(250);

/// Looks at the engines for as long as the service runs; every `summary` it writes a line to the log, if anything happened.
pub(crate) async fn sample(state: web::Data<ServiceState>, summary: Option<Duration>) {
    let mut seen: HashMap<String, u64> = HashMap::new();
    let mut summaries: HashMap<String, Totals> = HashMap::new();
    let mut chronicle = Chronicle::default();
    let mut last_summary = Instant::now();
    let mut ticks = tokio::time::interval(EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        for replica in state.models() {
            let after = seen.entry(replica.name.clone()).or_default();
            let status = replica.generate.status();
            state
                .recent
                .note_totals(&replica.name, status.prefill_tokens, status.output_tokens);
            chronicle.look(&state, &replica.name, &status);
            if status.steps > *after {
                let steps = replica.generate.steps_after(*after, usize::MAX);
                *after = steps.last().map_or(*after, |step| step.number);
                state.metrics.steps(&replica.name, &steps);
                if state.live.has_listeners() {
                    let model = replica.name.clone();
                    let steps = steps.iter().map(manage::step).collect();
                    state.live.tell("steps", &LiveSteps { model, steps });
                }
            }
        }
        if state.live.has_listeners() {
            state.live.tell("status", &manage::service_status(&state));
        }
        if summary.is_some_and(|every| last_summary.elapsed() >= every) {
            let seconds = last_summary.elapsed().as_secs_f64();
            last_summary = Instant::now();
            for replica in state.models() {
                let before = summaries.entry(replica.name.clone()).or_default();
                *before = summarize(&state, &replica, *before, seconds);
            }
        }
    }
}

/// An engine's totals at the last summary.
#[derive(Clone, Copy, Default, PartialEq)]
struct Totals {
    prefill: u64,
    output: u64,
    ended: u64,
    preemptions: u64,
}

/// Writes the line of one model, unless nothing happened since the last.
fn summarize(state: &ServiceState, replica: &Replica, before: Totals, seconds: f64) -> Totals {
    let status = manage::model_status(state, replica);
    let now = Totals {
        prefill: status.prefill_tokens,
        output: status.output_tokens,
        ended: status.ended,
        preemptions: status.preemptions,
    };
    if now == before && status.queue_depth == 0 {
        return now;
    }
    let rate = |from: u64, to: u64| ((to - from) as f64 / seconds).round();
    let ms = |seconds: f64| (seconds * 10_000.0).round() / 10.0;
    let window = &status.window;
    tracing::info!(
        model = status.name,
        queue = status.queue_depth,
        lanes = status.lanes_used,
        width = status.width,
        kv_pages = status.pages_used,
        completions = now.ended - before.ended,
        preemptions = now.preemptions - before.preemptions,
        tokens_in_per_s = rate(before.prefill, now.prefill),
        tokens_out_per_s = rate(before.output, now.output),
        ttft_p50_ms = ms(window.ttft.p50),
        ttft_p99_ms = ms(window.ttft.p99),
        itl_p50_ms = ms(window.itl.p50),
        itl_p99_ms = ms(window.itl.p99),
        "summary"
    );
    now
}
