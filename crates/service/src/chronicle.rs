//! What every model was like, kept for those who look back: every five seconds, and summed up every minute.

use crate::recent::Stretch;
use crate::state::ServiceState;
use std::collections::HashMap;
use vastrelay_engine::EngineStatus;
use vastrelay_store::{HistoryPoint, milliseconds_since_1970};

/// Seconds of a point, the finest first; each of the others sums up whole points of the first.
pub(crate) const SPANS: [u32; 2] = [5, 60];

/// The stretches of time that are under way.
#[derive(Default)]
pub(crate) struct Chronicle {
    models: HashMap<String, [Sum; SPANS.len()]>,
}

/// A stretch of time so far.
#[derive(Default)]
struct Sum {
    /// The number of the stretch: milliseconds since 1970 over its length.
    number: i64,
    begun_ms: i64,
    looks: usize,
    lanes: usize,
    queue_most: usize,
    pages_most: usize,
    /// Tokens computed and produced before it.
    before: (u64, u64),
    heard: Stretch,
}

impl Chronicle {
    /// Looks at a model, and keeps each stretch of time that is over.
    pub fn look(&mut self, state: &ServiceState, model: &str, status: &EngineStatus) {
        let now = milliseconds_since_1970();
        let sums = self
            .models
            .entry(model.to_owned())
            .or_insert_with(|| SPANS.map(|span| Sum::begin(now, span, status)));
        if sums[0].number != now / milliseconds(SPANS[0]) {
            let heard = state.recent.take(model);
            sums.iter_mut().for_each(|sum| sum.heard.add(&heard));
        }
        for (sum, span) in sums.iter_mut().zip(SPANS) {
            if sum.number != now / milliseconds(span) {
                let ended = std::mem::replace(sum, Sum::begin(now, span, status));
                if ended.looks > 0 {
                    state.store.record_history(ended.point(model, span, now, status));
                }
            }
            sum.add(status);
        }
    }
}

fn milliseconds(span: u32) -> i64 {
    i64::from(span) * 1000
}

impl Sum {
    fn begin(now: i64, span: u32, status: &EngineStatus) -> Sum {
        Sum {
            number: now / milliseconds(span),
            begun_ms: now,
            before: (status.prefill_tokens, status.output_tokens),
            ..Sum::default()
        }
    }

    fn add(&mut self, status: &EngineStatus) {
        let occupancy = &status.occupancy;
        self.looks += 1;
        self.lanes += occupancy.lanes_used;
        self.queue_most = self.queue_most.max(occupancy.queue_depth);
        self.pages_most = self.pages_most.max(occupancy.pages_used);
    }

    fn point(self, model: &str, span: u32, now: i64, status: &EngineStatus) -> HistoryPoint {
        let seconds = ((now - self.begun_ms) as f64 / 1000.0).max(0.001);
        let rate = |before: u64, after: u64| after.saturating_sub(before) as f64 / seconds;
        HistoryPoint {
            model: model.to_owned(),
            span,
            at_ms: self.number * milliseconds(span),
            queue_depth: self.queue_most,
            lanes_used: self.lanes as f64 / self.looks as f64,
            pages_used: self.pages_most,
            prefill_rate: rate(self.before.0, status.prefill_tokens),
            output_rate: rate(self.before.1, status.output_tokens),
            answered: self.heard.answered,
            refused: self.heard.refused,
            ttft: self.heard.ttft(),
            itl: self.heard.itl(),
        }
    }
}
