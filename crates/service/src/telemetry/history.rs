//! Stored measurements of every replica: every five seconds, and aggregated every minute.

use std::collections::HashMap;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_control::replicas::recent::Stretch;
use vastrelay_engine::EngineStatus;
use vastrelay_store::{HistoryRecord, Store, milliseconds_since_1970};
use vastrelay_wire::manage::HistoryPoint;

/// Seconds of a point, the finest first; each of the others sums up whole points of the first.
pub(crate) const SPANS: [u32; 2] = [5, 60];

/// The stretches of time that are under way, by incarnation.
#[derive(Default)]
pub(crate) struct HistoryRecorder {
    replicas: HashMap<u64, [Sum; SPANS.len()]>,
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
    /// Seconds in steps before it began.
    busy_before: f64,
    heard: Stretch,
}

impl HistoryRecorder {
    /// Looks at a replica, and keeps each stretch of time that is over.
    pub fn look(&mut self, store: &Store, endpoint: &Endpoint, measured: &MeasuredReplica, status: &EngineStatus) {
        let now = milliseconds_since_1970();
        // Calls that wait for any replica count with the first.
        let waiting = if measured.replica.number == 1 {
            endpoint.replicas.queue().depth()
        } else {
            0
        };
        let sums = self.replicas.entry(measured.replica.incarnation).or_insert_with(|| {
            let (begun, first) = &measured.first;
            SPANS.map(|span| Sum::start(*begun, span, first))
        });
        if sums[0].number != now / milliseconds(SPANS[0]) {
            let heard = measured.recent.take();
            sums.iter_mut().for_each(|sum| sum.heard.add(&heard));
        }
        for (sum, span) in sums.iter_mut().zip(SPANS) {
            if sum.number != now / milliseconds(span) {
                let ended = std::mem::replace(sum, Sum::start(now, span, status));
                if ended.looks > 0 {
                    store.record_history(HistoryRecord {
                        endpoint: endpoint.name.clone(),
                        span,
                        point: HistoryPoint {
                            release: endpoint.release,
                            replica: measured.replica.number,
                            incarnation: measured.replica.incarnation,
                            device: endpoint.device().name().into(),
                            simulated: endpoint.device().is_simulated(),
                            ..ended.point(span, now, status)
                        },
                    });
                }
            }
            sum.add(status, waiting);
        }
    }
}

impl HistoryRecorder {
    /// Forgets lives that are over.
    pub fn keep(&mut self, is_alive: impl Fn(u64) -> bool) {
        self.replicas.retain(|incarnation, _| is_alive(*incarnation));
    }
}

fn milliseconds(span: u32) -> i64 {
    i64::from(span) * 1000
}

impl Sum {
    fn start(now: i64, span: u32, status: &EngineStatus) -> Sum {
        Sum {
            number: now / milliseconds(span),
            begun_ms: now,
            before: (status.prefill_tokens, status.output_tokens),
            busy_before: status.busy,
            ..Sum::default()
        }
    }

    fn add(&mut self, status: &EngineStatus, waiting: usize) {
        let occupancy = &status.occupancy;
        self.looks += 1;
        self.lanes += occupancy.lanes_used;
        self.queue_most = self.queue_most.max(occupancy.queue_depth + waiting);
        self.pages_most = self.pages_most.max(occupancy.pages_used);
    }

    fn point(self, span: u32, now: i64, status: &EngineStatus) -> HistoryPoint {
        let seconds = ((now - self.begun_ms) as f64 / 1000.0).max(0.001);
        let rate = |before: u64, after: u64| after.saturating_sub(before) as f64 / seconds;
        HistoryPoint {
            at_ms: self.number * milliseconds(span),
            queue_depth: self.queue_most,
            lanes_used: self.lanes as f64 / self.looks as f64,
            pages_used: self.pages_most,
            prefill_rate: rate(self.before.0, status.prefill_tokens),
            output_rate: rate(self.before.1, status.output_tokens),
            busy_share: ((status.busy - self.busy_before) / seconds).clamp(0.0, 1.0),
            answered: self.heard.answered,
            refused: self.heard.refused,
            ttft: self.heard.ttft(),
            itl: self.heard.itl(),
            ..HistoryPoint::default()
        }
    }
}
