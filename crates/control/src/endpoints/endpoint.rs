//! An endpoint: a name, the release that is served under it, and its replicas.

use crate::deployments::answer_settings::AnswerSettings;
use crate::deployments::fingerprint::ReleaseFingerprint;
use crate::events::EventLog;
use crate::replicas::counters::{ReleaseLabels, ReleaseMetrics};
use crate::replicas::members::{Replicas, Terms};
use crate::replicas::queue::{Entry, Turn};
use crate::replicas::state::{NotReady, NotTaken};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use vastrelay_engine::queue::retry_after;
use vastrelay_engine::{Limits, Refusal};
use vastrelay_fleet::Upkeep;
use vastrelay_fleet::upkeep::Due;
use vastrelay_serving::{Device, Model, Plan};
use vastrelay_text::ChatTemplate;

/// What callers address by a name.
pub struct Endpoint {
    /// The name.
    pub name: String,
    /// The number of its release.
    pub release: u32,
    /// The text side of the model that it serves.
    pub model: Arc<Model>,
    /// How its replicas run, and the memory that they hold.
    pub plan: Arc<Plan>,
    /// How its calls are answered.
    pub answer_settings: Arc<AnswerSettings>,
    /// When it parks or stops by itself.
    pub upkeep: Upkeep,
    /// The metrics of the release.
    pub counters: Arc<ReleaseMetrics>,
    /// Its replicas.
    pub replicas: Arc<Replicas>,
    /// Puts down what happens to it.
    log: Option<EventLog>,
    /// The components of its release.
    fingerprint: Option<ReleaseFingerprint>,
    /// The machine's part of what makes its release, as JSON.
    machine: Value,
    /// Its model's own files, from which a build may have been made.
    source: Option<PathBuf>,
    /// Since when it is there.
    started: Instant,
    /// When it was last of use.
    used: Mutex<Instant>,
}

impl Endpoint {
    /// Returns what answers say of the device, where it is simulated.
    pub fn fingerprint(&self) -> Option<String> {
        let device = self.device();
        device.is_simulated().then(|| format!("simulated {}", device.name()))
    }

    /// Returns the device that its replicas run on.
    pub fn device(&self) -> &Device {
        &self.plan.device
    }

    /// Returns an endpoint without a replica.
    pub fn new(name: &str, release: u32, model: Arc<Model>, plan: Arc<Plan>) -> Endpoint {
        let device = &plan.device;
        let labels = ReleaseLabels {
            endpoint: name.to_owned(),
            release: release.to_string(),
            device: device.name().to_owned(),
            simulated: device.is_simulated(),
        };
        let counters = Arc::new(ReleaseMetrics::new(labels));
        Endpoint {
            name: name.to_owned(),
            release,
            answer_settings: Arc::new(AnswerSettings::of(&model)),
            upkeep: Upkeep::default(),
            started: Instant::now(),
            used: Mutex::new(Instant::now()),
            model,
            plan,
            replicas: Arc::new(Replicas::new(Terms {
                counters: counters.clone(),
                longest_start: None,
            })),
            counters,
            log: None,
            fingerprint: None,
            machine: Value::Null,
            source: None,
        }
    }

    /// Returns another release on the same replicas, which may differ in how calls are answered and in its upkeep.
    pub fn with_replicas_of(before: &Endpoint, release: u32) -> Endpoint {
        let mut endpoint = Endpoint::new(&before.name, release, before.model.clone(), before.plan.clone());
        endpoint.replicas = before.replicas.clone();
        endpoint
    }

    /// Makes what holds for its release hold for those who keep its replicas.
    pub fn belongs_to_replicas(&self) {
        self.replicas.set_terms(Terms {
            counters: self.counters.clone(),
            longest_start: self.upkeep.longest_start,
        });
    }

    /// Sets how it answers calls, and its upkeep.
    pub fn answering(mut self, answer_settings: Arc<AnswerSettings>, upkeep: Upkeep) -> Endpoint {
        (self.answer_settings, self.upkeep) = (answer_settings, upkeep);
        self
    }

    /// Returns its chat template.
    pub fn template(&self) -> Option<&ChatTemplate> {
        self.answer_settings.template(&self.model)
    }

    /// Notes that it is of use.
    pub fn touch(&self) {
        *self.used.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }

    /// Returns the parking or stop that is due; an endpoint with leases is never idle.
    pub fn due(&self) -> Option<Due> {
        let used = *self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let is_busy = !self.replicas.leases().is_free();
        self.upkeep.due(self.started.elapsed(), used.elapsed(), is_busy)
    }

    /// Returns it with what puts down what happens to it.
    pub fn logged_by(mut self, log: EventLog) -> Endpoint {
        self.log = Some(log);
        self
    }

    /// Returns it with what tells it from others, and the machine's part of what makes its release, as JSON.
    pub fn with_fingerprint(mut self, fingerprint: ReleaseFingerprint, machine: Value) -> Endpoint {
        (self.fingerprint, self.machine) = (Some(fingerprint), machine);
        self
    }

    /// Returns it with the path of its model's own files.
    pub fn read_from(self, source: &Path) -> Endpoint {
        Endpoint {
            source: Some(source.to_owned()),
            ..self
        }
    }

    /// Returns the path of its model's own files; its workers may read a build that was made from them.
    pub fn source(&self) -> &Path {
        self.source.as_deref().unwrap_or(self.plan.assignment.path())
    }

    /// Returns the machine's part of what makes its release, as JSON.
    pub fn machine(&self) -> &Value {
        &self.machine
    }

    /// Returns what tells it from others.
    pub fn release_fingerprint(&self) -> Option<&ReleaseFingerprint> {
        self.fingerprint.as_ref()
    }

    /// Returns what puts down what happens to it, where something does.
    pub fn log(&self) -> Option<&EventLog> {
        self.log.as_ref()
    }

    /// Waits in the queue for a turn at a replica.
    ///
    /// # Errors
    /// When too many wait, or all replicas have failed and none will be back soon. Requests accepted earlier keep waiting, as long as
    /// there is hope.
    pub async fn turn(&self, entry: &Entry) -> Result<Turn, NotTaken> {
        let limit = if entry.again {
            usize::MAX
        } else {
            self.limits().queue_depth
        };
        let mut change = self.replicas.changes();
        let longest = self.answer_settings.said.longest_wait;
        let longest_wait = Instant::now();
        let mut waiting = self
            .replicas
            .queue()
            .enter(entry.clone(), limit)
            .map_err(|depth| NotTaken::Refused(self.queue_full(depth)))?;
        loop {
            let given_up = |why: &NotReady| match why {
                NotReady::Failed { is_hopeless, .. } => *is_hopeless || !entry.again,
                NotReady::Stopped(_) | NotReady::Closed | NotReady::GivenUp(_) | NotReady::Starting(_) => true,
            };
            if let Some(why) = self.replicas.not_ready().filter(given_up) {
                return Err(NotTaken::NotReady(why));
            }
            // A call waits for a lane for as long as the queue allows.
            let longest = longest.filter(|_| !self.replicas.has_replica());
            tokio::select! {
                biased;
                Ok(turn) = &mut waiting.turn => return Ok(turn),
                // The sender is the replicas' own.
                _ = change.changed() => {}
                () = until(longest.and_then(|longest| longest_wait.checked_add(longest))) => {
                    return Err(NotTaken::NotReady(NotReady::Starting(longest.unwrap_or_default())));
                }
            }
        }
    }

    fn queue_full(&self, depth: usize) -> Refusal {
        let residence = self
            .replicas
            .first_replica()
            .map_or(1.0, |measured| measured.replica.generate.status().residence);
        let retry_after = retry_after(depth, self.limits().width, residence);
        Refusal::QueueFull { depth, retry_after }
    }

    /// Refuses requests of a key for which there is no room, before anything is done for them.
    ///
    /// # Errors
    /// When there is none.
    pub fn refuse_when_full(&self, key: &str) -> Result<(), Refusal> {
        match self.replicas.queue().full(key, self.limits().queue_depth) {
            Some(depth) if self.replicas.not_ready().is_none() => Err(self.queue_full(depth)),
            _ => Ok(()),
        }
    }

    /// Returns what each of its replicas may spend.
    pub fn limits(&self) -> &Limits {
        &self.plan.assignment.limits
    }
}

/// Waits until a moment; for ever without one.
async fn until(moment: Option<Instant>) {
    match moment {
        Some(moment) => tokio::time::sleep_until(moment.into()).await,
        None => std::future::pending().await,
    }
}
