//! An endpoint: a name, the release that is served under it, and its replicas.

use crate::counted::{ReleaseLabels, ReleaseMetrics};
use crate::recent::Recent;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use vastrelay_engine::{EngineStatus, Limits};
use vastrelay_serving::{Device, Model, Precisions, Replica};
use vastrelay_wire::manage::Totals;

/// What callers address by a name.
pub struct Endpoint {
    /// The name.
    pub name: String,
    /// The number of its release.
    pub release: u32,
    /// The text side of the model that it serves.
    pub model: Arc<Model>,
    /// The device that its replicas run on.
    pub device: Device,
    /// What they run in.
    pub precisions: Precisions,
    /// What is counted of the release.
    pub(crate) counted: Arc<ReleaseMetrics>,
    limits: Limits,
    replicas: RwLock<Vec<Arc<Placed>>>,
    /// What replicas did that are gone.
    past: Mutex<Totals>,
}

/// A replica in its place, with what the last seconds of it were like.
pub struct Placed {
    /// The replica.
    pub replica: Replica,
    pub(crate) recent: Recent,
}

impl Endpoint {
    /// Returns what answers say of the device, where it is simulated.
    pub(crate) fn fingerprint(&self) -> Option<String> {
        self.device
            .is_simulated()
            .then(|| format!("simulated {}", self.device.name()))
    }

    /// Returns an endpoint with its first replica.
    pub fn new(name: &str, release: u32, model: Arc<Model>, replica: Replica) -> Endpoint {
        let labels = ReleaseLabels {
            endpoint: name.to_owned(),
            release: release.to_string(),
            device: replica.device.name().to_owned(),
            simulated: replica.device.is_simulated(),
        };
        let endpoint = Endpoint {
            name: name.to_owned(),
            release,
            model,
            device: replica.device.clone(),
            precisions: replica.precisions,
            counted: Arc::new(ReleaseMetrics::new(labels)),
            limits: replica.generate.limits().clone(),
            replicas: RwLock::default(),
            past: Mutex::default(),
        };
        endpoint.place(replica);
        endpoint
    }

    /// Puts a replica in the place of the one with its number, if there is one; what that one did still counts.
    pub fn place(&self, replica: Replica) {
        let mut replicas = self.replicas.write().unwrap_or_else(PoisonError::into_inner);
        let before = replicas
            .iter()
            .position(|placed| placed.replica.number == replica.number);
        if let Some(place) = before {
            let gone = replicas.swap_remove(place);
            let mut past = self.past.lock().unwrap_or_else(PoisonError::into_inner);
            *past += totals_of(&gone.replica.generate.status());
        }
        replicas.push(Arc::new(Placed {
            replica,
            recent: Recent::default(),
        }));
        replicas.sort_by_key(|placed| placed.replica.number);
    }

    /// Returns its replicas in the order of their numbers; at least one.
    pub fn replicas(&self) -> Vec<Arc<Placed>> {
        self.replicas.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Returns the replica that a request goes to: of those that have not failed the one with the fewest sequences.
    pub(crate) fn route(&self) -> Arc<Placed> {
        let replicas = self.replicas.read().unwrap_or_else(PoisonError::into_inner);
        if let [only] = replicas.as_slice() {
            return only.clone();
        }
        let load = |placed: &&Arc<Placed>| {
            let status = placed.replica.generate.status();
            let occupancy = status.occupancy;
            (status.failure.is_some(), occupancy.queue_depth + occupancy.lanes_used)
        };
        replicas
            .iter()
            .min_by_key(load)
            .expect("an endpoint has a replica")
            .clone()
    }

    /// Returns what each of its replicas may spend.
    pub(crate) fn limits(&self) -> &Limits {
        &self.limits
    }

    /// Returns what its release has done, over all lives of all replicas.
    pub fn totals(&self) -> Totals {
        let replicas = self.replicas();
        let mut totals = *self.past.lock().unwrap_or_else(PoisonError::into_inner);
        replicas
            .iter()
            .for_each(|placed| totals += totals_of(&placed.replica.generate.status()));
        totals
    }

    /// Returns its state: `failed` when every replica has failed, `degraded` when some have, else `ready`.
    pub fn state(&self) -> &'static str {
        let replicas = self.replicas();
        let failed = replicas.iter().filter(|placed| placed.has_failed()).count();
        match failed {
            0 => "ready",
            some if some < replicas.len() => "degraded",
            _ => "failed",
        }
    }
}

impl Placed {
    /// Returns whether it has stopped for good.
    fn has_failed(&self) -> bool {
        self.replica.generate.status().failure.is_some()
    }
}

/// Returns what an engine has done.
pub(crate) fn totals_of(status: &EngineStatus) -> Totals {
    Totals {
        steps: status.steps,
        busy: status.busy,
        prefill_tokens: status.prefill_tokens,
        output_tokens: status.output_tokens,
        ended: status.ended,
        preemptions: status.preemptions,
    }
}
