//! The one stream of live events: `GET /manage/live`.
//!
//! A sampler looks at every engine four times a second. It counts the steps since its last look, and tells whoever listens;
//! when nobody does, nothing is put into words.

use crate::chronicle::Chronicle;
use crate::manage;
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::web::Bytes;
use actix_web::{HttpResponse, web};
use serde::Serialize;
use std::collections::HashMap;
use std::time::{Duration, Instant};
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::RecvError;
use vastrelay_serving::Replica;
use vastrelay_wire::load::LoadStatus;
use vastrelay_wire::manage::{LiveSteps, RecordedCall};

/// Time between two looks.
const EVERY: Duration = Duration::from_millis(250);
/// Events that a listener may be behind.
const MOST_BEHIND: usize = 1_024;

/// Where events are told.
pub(crate) struct Live {
    frames: broadcast::Sender<Bytes>,
}

impl Default for Live {
    fn default() -> Live {
        Live {
            frames: broadcast::channel(MOST_BEHIND).0,
        }
    }
}

impl Live {
    /// Tells a call that has ended.
    pub fn call(&self, call: impl FnOnce() -> RecordedCall) {
        if self.has_listeners() {
            self.tell("call", &call());
        }
    }

    /// Tells how a load test is getting on.
    pub fn load(&self, status: &LoadStatus) {
        if self.has_listeners() {
            self.tell("load", status);
        }
    }

    fn has_listeners(&self) -> bool {
        self.frames.receiver_count() > 0
    }

    fn tell(&self, event: &str, value: &impl Serialize) {
        // Nobody may be left by now.
        let _ = self.frames.send(frame(event, value));
    }
}

fn frame(event: &str, value: &impl Serialize) -> Bytes {
    let json = serde_json::to_string(value).expect("wire types are JSON");
    format!("event: {event}\ndata: {json}\n\n").into()
}

/// `GET /manage/live`: server-sent events. `status` tells how everything stands, at first and four times a second; `steps`
/// the steps of a model since the last time; `call` each call that has ended; `load` how a load test gets on.
#[utoipa::path(get, path = "/manage/live", operation_id = "live_events", tag = "manage", responses(
    (status = 200, description = "Server-sent events: `status`, `steps`, `call`, `load`", body = String, content_type = "text/event-stream")))]
pub async fn live(state: web::Data<ServiceState>) -> HttpResponse {
    let mut frames = state.live.frames.subscribe();
    let first = frame("status", &manage::service_status(&state));
    let events = async_stream::stream! {
        yield Ok::<_, Problem>(first);
        loop {
            match frames.recv().await {
                Ok(frame) => yield Ok(frame),
                Err(RecvError::Lagged(missed)) => yield Ok(format!(": {missed} events were missed\n\n").into()),
                Err(RecvError::Closed) => return,
            }
        }
    };
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .streaming(events)
}

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
