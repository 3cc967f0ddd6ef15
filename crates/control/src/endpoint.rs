//! An endpoint: a name, the release that is served under it, and its replicas.

use crate::counted::{ReleaseLabels, ReleaseMetrics};
use crate::crew::{Crew, Terms};
use crate::event_log::EventLog;
use crate::line::{Entry, Turn};
use crate::made_of::MadeOf;
use crate::manner::Manner;
use crate::standing::{NotReady, NotTaken};
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
    pub manner: Arc<Manner>,
    /// When it parks or stops by itself.
    pub upkeep: Upkeep,
    /// The metrics of the release.
    pub counted: Arc<ReleaseMetrics>,
    /// Its replicas.
    pub crew: Arc<Crew>,
    /// Puts down what happens to it.
    log: Option<EventLog>,
    /// What tells it from others.
    made_of: Option<MadeOf>,
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
        let counted = Arc::new(ReleaseMetrics::new(labels));
        Endpoint {
            name: name.to_owned(),
            release,
            manner: Arc::new(Manner::of(&model)),
            upkeep: Upkeep::default(),
            started: Instant::now(),
            used: Mutex::new(Instant::now()),
            model,
            plan,
            crew: Arc::new(Crew::new(Terms {
                counted: counted.clone(),
                longest_start: None,
            })),
            counted,
            log: None,
            made_of: None,
            machine: Value::Null,
            source: None,
        }
    }

    /// Returns another release on the same replicas, which may differ in how calls are answered and in its upkeep.
    pub fn with_crew_of(before: &Endpoint, release: u32) -> Endpoint {
        let mut endpoint = Endpoint::new(&before.name, release, before.model.clone(), before.plan.clone());
        endpoint.crew = before.crew.clone();
        endpoint
    }

    /// Makes what holds for its release hold for those who keep its replicas.
    pub fn takes_the_crew(&self) {
        self.crew.set_terms(Terms {
            counted: self.counted.clone(),
            longest_start: self.upkeep.longest_start,
        });
    }

    /// Sets how it answers calls, and its upkeep.
    pub fn minded(mut self, manner: Arc<Manner>, upkeep: Upkeep) -> Endpoint {
        (self.manner, self.upkeep) = (manner, upkeep);
        self
    }

    /// Returns its chat template.
    pub fn template(&self) -> Option<&ChatTemplate> {
        self.manner.template(&self.model)
    }

    /// Notes that it is of use.
    pub fn touch(&self) {
        *self.used.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }

    /// Returns the parking or stop that is due; an endpoint with leases is never idle.
    pub fn due(&self) -> Option<Due> {
        let used = *self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let is_busy = !self.crew.leases().is_free();
        self.upkeep.due(self.started.elapsed(), used.elapsed(), is_busy)
    }

    /// Returns it with what puts down what happens to it.
    pub fn logged_by(mut self, log: EventLog) -> Endpoint {
        self.log = Some(log);
        self
    }

    /// Returns it with what tells it from others, and the machine's part of what makes its release, as JSON.
    pub fn made_of_this(mut self, made_of: MadeOf, machine: Value) -> Endpoint {
        (self.made_of, self.machine) = (Some(made_of), machine);
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
    pub fn made_of(&self) -> Option<&MadeOf> {
        self.made_of.as_ref()
    }

    /// Returns what puts down what happens to it, where something does.
    pub fn log(&self) -> Option<&EventLog> {
        self.log.as_ref()
    }

    /// Waits in the line until it is its turn at a replica.
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
        let mut change = self.crew.changes();
        let longest = self.manner.said.longest_wait;
        let patience = Instant::now();
        let mut waiting = self
            .crew
            .line()
            .enter(entry.clone(), limit)
            .map_err(|depth| NotTaken::Refused(self.queue_full(depth)))?;
        loop {
            let given_up = |why: &NotReady| match why {
                NotReady::Failed { is_hopeless, .. } => *is_hopeless || !entry.again,
                NotReady::Stopped(_) | NotReady::Closed | NotReady::GivenUp(_) | NotReady::Starting(_) => true,
            };
            if let Some(why) = self.crew.not_ready().filter(given_up) {
                return Err(NotTaken::NotReady(why));
            }
            // Whoever waits for a lane does so for as long as the queue lets one.
            let longest = longest.filter(|_| !self.crew.has_replica());
            tokio::select! {
                biased;
                Ok(turn) = &mut waiting.turn => return Ok(turn),
                // The sender is the crew's own.
                _ = change.changed() => {}
                () = until(longest.and_then(|longest| patience.checked_add(longest))) => {
                    return Err(NotTaken::NotReady(NotReady::Starting(longest.unwrap_or_default())));
                }
            }
        }
    }

    fn queue_full(&self, depth: usize) -> Refusal {
        let residence = self
            .crew
            .first_replica()
            .map_or(1.0, |placed| placed.replica.generate.status().residence);
        let retry_after = retry_after(depth, self.limits().width, residence);
        Refusal::QueueFull { depth, retry_after }
    }

    /// Refuses requests of a key for which there is no room, before anything is done for them.
    ///
    /// # Errors
    /// When there is none.
    pub fn refuse_when_full(&self, key: &str) -> Result<(), Refusal> {
        match self.crew.line().full(key, self.limits().queue_depth) {
            Some(depth) if self.crew.not_ready().is_none() => Err(self.queue_full(depth)),
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
