//! Measures all replicas.

use crate::http::state::ServiceState;
use crate::manage::steps::replica_steps;
use crate::telemetry::history::HistoryRecorder;
use std::collections::{HashMap, HashSet};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::replicas::measured::MeasuredReplica;

/// The state of the last look.
#[derive(Default)]
pub(crate) struct Sampler {
    /// The number of the last step that was counted, by incarnation.
    steps: HashMap<u64, u64>,
    history: HistoryRecorder,
}

impl Sampler {
    /// Looks at all replicas, and forgets those that are gone.
    pub fn all(&mut self, state: &ServiceState) {
        let mut alive = HashSet::new();
        for endpoint in state.endpoints.all() {
            for measured in endpoint.replicas.all() {
                alive.insert(measured.replica.incarnation);
                self.one(state, &endpoint, &measured);
            }
        }
        self.steps.retain(|incarnation, _| alive.contains(incarnation));
        self.history.keep(|incarnation| alive.contains(&incarnation));
    }

    fn one(&mut self, state: &ServiceState, endpoint: &Endpoint, measured: &MeasuredReplica) {
        let generate = &measured.replica.generate;
        let status = generate.status();
        measured.recent.note_totals(status.prefill_tokens, status.output_tokens);
        self.history.look(&state.records.store, endpoint, measured, &status);
        let after = self.steps.entry(measured.replica.incarnation).or_default();
        if status.steps > *after {
            let steps = generate.steps_after(*after, usize::MAX);
            *after = steps.last().map_or(*after, |step| step.number);
            endpoint.counters.steps(&steps);
            if state.live.has_listeners() {
                state.live.send("steps", &replica_steps(endpoint, measured, &steps));
            }
        }
    }
}
