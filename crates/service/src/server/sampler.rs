//! Measures all replicas.

use crate::telemetry::history::Chronicle;
use crate::manage::steps::replica_steps;
use crate::http::state::ServiceState;
use std::collections::{HashMap, HashSet};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::replicas::measured::MeasuredReplica;

/// The state of the last look.
#[derive(Default)]
pub(crate) struct Looks {
    /// The number of the last step that was counted, by incarnation.
    steps: HashMap<u64, u64>,
    chronicle: Chronicle,
}

impl Looks {
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
        self.chronicle.keep(|incarnation| alive.contains(&incarnation));
    }

    fn one(&mut self, state: &ServiceState, endpoint: &Endpoint, measured: &MeasuredReplica) {
        let generate = &measured.replica.generate;
        let status = generate.status();
        measured.recent.note_totals(status.prefill_tokens, status.output_tokens);
        self.chronicle.look(&state.records.store, endpoint, measured, &status);
        let after = self.steps.entry(measured.replica.incarnation).or_default();
        if status.steps > *after {
            let steps = generate.steps_after(*after, usize::MAX);
            *after = steps.last().map_or(*after, |step| step.number);
            endpoint.counters.steps(&steps);
            if state.live.has_listeners() {
                state.live.tell("steps", &replica_steps(endpoint, measured, &steps));
            }
        }
    }
}
