//! The state of the endpoints that calls and readers see.

use super::Shell;
use crate::control_loop::reasons::Reasons;
use crate::control_loop::supervisor::FIRST;
use crate::control_loop::terms::Decided;
use crate::control_loop::writes::Task;
use crate::endpoints::registry::View;
use crate::placement::room::RoomNow;
use crate::replicas::state::{NotReady, ReplicaState};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;
use vastrelay_fleet::State;
use vastrelay_fleet::decider::{Goal, Outcome, Rest, RunId, Stage};
use vastrelay_serving::worker::protocol::StartPhase;
use vastrelay_store::StoredState;

impl Shell {
    /// Shows how all endpoints stand.
    pub(super) fn publish(&mut self) {
        self.show_stages();
        let decider = &self.decider;
        self.reasons.retain(|name, _| decider.endpoints().contains_key(name));
        let mut view = View {
            room: Some(RoomNow {
                ledgers: self.decider.ledgers().clone(),
                frees_soon: self.decider.frees_soon(),
            }),
            ..View::default()
        };
        let mut parked = Vec::new();
        for (name, endpoint) in self.decider.endpoints() {
            let object = |run: Option<RunId>| run.and_then(|run| self.runs.get(&run)).map(|run| run.endpoint.clone());
            let current = object(endpoint.current);
            let coming = endpoint.change.as_ref().and_then(|change| object(change.run));
            let is_parked = endpoint.rest == Some(Rest::Parked);
            if endpoint.rest.is_some()
                && let Some(reasons) = self.reasons.get_mut(name)
            {
                reasons.at_start = false;
            }
            parked.push((name.clone(), is_parked));
            let reasons = self.reasons.get(name);
            // A first deployment is served from the moment on at which it has its place, so that calls wait for it.
            let served = match &current {
                Some(current) => Some(current.clone()),
                None if endpoint.desired.is_none() => coming.clone(),
                None => None,
            };
            match served {
                Some(served) => {
                    if let Some(coming) = coming.filter(|coming| !Arc::ptr_eq(coming, &served)) {
                        view.coming.insert(name.clone(), coming);
                    }
                    view.served.insert(name.clone(), served);
                }
                None => {
                    let state = endpoint.state();
                    let why = why_not_served(endpoint, state, reasons);
                    let longest = reasons.and_then(|reasons| reasons.longest_wait);
                    coming
                        .into_iter()
                        .for_each(|coming| _ = view.coming.insert(name.clone(), coming));
                    view.resting.insert(name.clone(), (state, why, longest));
                }
            }
        }
        self.keep_parked(parked);
        self.parts.endpoints.show(view);
    }

    /// Lets go of runs that the decider has dropped; calls that still wait for one of them end. Returns whether there were any.
    pub(super) fn drop_runs(&mut self) -> bool {
        let all = self.decider.endpoints().values();
        let runs: BTreeSet<RunId> = all.flat_map(|endpoint| &endpoint.runs).map(|run| run.id).collect();
        let gone: Vec<RunId> = self.runs.keys().filter(|id| !runs.contains(id)).copied().collect();
        for id in &gone {
            let Some(object) = self.runs.remove(id) else { continue };
            let why = self
                .why_dropped(&object.name)
                .map_or(NotReady::Closed, NotReady::GivenUp);
            object.endpoint.replicas.close_because(why);
        }
        !gone.is_empty()
    }

    /// Returns why a run of an endpoint could not be started, where that is the reason of its end.
    fn why_dropped(&self, name: &str) -> Option<String> {
        let given_up = self.untold.iter().find_map(|(_, change, outcome)| match outcome {
            Outcome::GivenUp { failure } if change.name == name => Some(failure.why.clone()),
            _ => None,
        });
        given_up.or_else(|| match &self.decider.endpoints().get(name)?.rest {
            Some(Rest::Failed { why, .. }) => Some(why.clone()),
            _ => None,
        })
    }

    /// Shows on replicas what their runs are about, where that has changed.
    pub(super) fn show_stages(&mut self) {
        let now = self.now();
        for endpoint in self.decider.endpoints().values() {
            for run in &endpoint.runs {
                let Some(object) = self.runs.get_mut(&run.id) else {
                    continue;
                };
                if let (Some(hold), Some(cores)) = (&run.hold, &object.endpoint.plan.cores) {
                    cores.set_share(self.decider.ledgers().cores_of(hold));
                }
                if object.shown.as_ref() == Some(&run.stage) {
                    continue;
                }
                let replicas = &object.endpoint.replicas;
                match &run.stage {
                    Stage::Pausing { until, why } if run.early_exits.is_loop() => {
                        let pause = Duration::from_millis(until.saturating_sub(now));
                        replicas.comes_back(
                            FIRST,
                            ReplicaState::failed(why.clone(), pause, run.early_exits.is_hopeless()),
                        );
                    }
                    Stage::Pausing { .. } => {
                        replicas.comes_back(FIRST, ReplicaState::Starting(StartPhase::StartingWorker))
                    }
                    Stage::Ending { .. } if run.goal == Goal::Serve => {
                        replicas.comes_back(FIRST, ReplicaState::Draining)
                    }
                    _ => {}
                }
                object.shown = Some(run.stage.clone());
            }
        }
    }

    /// Keeps which endpoints are parked, for the next service.
    fn keep_parked(&mut self, parked: Vec<(String, bool)>) {
        for (name, is_parked) in parked {
            let reasons = self.reasons.entry(name.clone()).or_default();
            if reasons.is_stored_as_parked == is_parked {
                continue;
            }
            reasons.is_stored_as_parked = is_parked;
            let is_stopped = self
                .decider
                .endpoints()
                .get(&name)
                .and_then(|endpoint| endpoint.desired.as_ref())
                .is_none_or(|desired| !desired.serving);
            let state = match is_parked {
                true => StoredState::Parked,
                false if is_stopped => continue,
                false => StoredState::Served,
            };
            let _ = self.writes.send(Task::Stand { name, state });
        }
    }
}

/// Returns why an endpoint is not served, for people.
fn why_not_served(endpoint: &Decided, state: State, reasons: Option<&Reasons>) -> String {
    match (&endpoint.rest, state) {
        (Some(Rest::Failed { why, again: None }), _) => why.clone(),
        (Some(Rest::Failed { why, again: Some(_) }), _) => format!("{why}; it is tried again by itself"),
        (Some(Rest::Parked), _) => reasons.map(|reasons| reasons.parked.clone()).unwrap_or_default(),
        (None, State::Stopped | State::Draining) => reasons.map(Reasons::why_stopped).unwrap_or_default(),
        (None, _) => phase_of(endpoint).into(),
    }
}

/// Returns how far an endpoint is that has no place yet.
fn phase_of(endpoint: &Decided) -> &'static str {
    let change = endpoint.change.as_ref().and_then(|change| change.run);
    let run = endpoint.current.or(change).and_then(|run| endpoint.run(run));
    match run.map(|run| &run.stage) {
        Some(Stage::Preparing(_)) => "its model is being prepared",
        Some(Stage::Waiting { .. }) => "it waits for memory",
        _ => "it is being started",
    }
}
