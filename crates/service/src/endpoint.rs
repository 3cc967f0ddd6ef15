//! An endpoint: a name, the release that is served under it, and its replicas.

use crate::counted::{ReleaseLabels, ReleaseMetrics};
use crate::event_log::EventLog;
use crate::line::{EdgeLine, Entry, Turn};
use crate::made_of::MadeOf;
use crate::manner::Manner;
use crate::placed::Placed;
use crate::standing::{Life, NotReady, NotTaken};
use crate::stop::Stop;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_engine::queue::retry_after;
use vastrelay_engine::{EngineStatus, Limits, Refusal};
use vastrelay_fleet::Upkeep;
use vastrelay_fleet::state::{self, State};
use vastrelay_fleet::upkeep::Due;
use vastrelay_serving::{Device, Model, Plan, Replica};
use vastrelay_text::ChatTemplate;
use vastrelay_wire::manage::Totals;

/// Why calls end whose endpoint is closed.
pub(crate) const STOPPED: &str = "the endpoint was stopped before the answer had ended";

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
    pub(crate) manner: Arc<Manner>,
    /// How long it is to be there.
    pub(crate) upkeep: Upkeep,
    /// What is counted of the release.
    pub(crate) counted: Arc<ReleaseMetrics>,
    replicas: RwLock<Vec<Arc<Placed>>>,
    /// What becomes of replicas that are not there now, by number.
    lives: Mutex<BTreeMap<u32, Life>>,
    /// Told whenever one of the two changes.
    change: watch::Sender<()>,
    /// Tells those who keep replicas alive to stop.
    keepers: Vec<Arc<Stop>>,
    line: Arc<EdgeLine>,
    /// What replicas did that are gone.
    past: Mutex<Totals>,
    /// Puts down what happens to it.
    log: Option<EventLog>,
    /// What tells it from others.
    made_of: Option<MadeOf>,
    /// Nobody brings its replicas back any more.
    is_closed: AtomicBool,
    /// Since when it is there.
    started: Instant,
    /// When it was last of use.
    used: Mutex<Instant>,
}

impl Endpoint {
    /// Returns what answers say of the device, where it is simulated.
    pub(crate) fn fingerprint(&self) -> Option<String> {
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
        Endpoint {
            name: name.to_owned(),
            release,
            manner: Arc::new(Manner::of(&model)),
            upkeep: Upkeep::default(),
            started: Instant::now(),
            used: Mutex::new(Instant::now()),
            model,
            plan,
            counted: Arc::new(ReleaseMetrics::new(labels)),
            replicas: RwLock::default(),
            lives: Mutex::default(),
            change: watch::Sender::default(),
            keepers: Vec::new(),
            line: EdgeLine::new(),
            past: Mutex::default(),
            log: None,
            made_of: None,
            is_closed: AtomicBool::new(false),
        }
    }

    /// Returns it with how its calls are answered and how long it is to be there.
    pub(crate) fn minded(mut self, manner: Arc<Manner>, upkeep: Upkeep) -> Endpoint {
        (self.manner, self.upkeep) = (manner, upkeep);
        self
    }

    /// Returns its chat template.
    pub(crate) fn template(&self) -> Option<&ChatTemplate> {
        self.manner.template(&self.model)
    }

    /// Notes that it is of use.
    pub(crate) fn touch(&self) {
        *self.used.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }

    /// Returns what is due for it by itself; while it `is_busy`, it is not idle.
    pub(crate) fn due(&self, is_busy: bool) -> Option<Due> {
        let used = *self.used.lock().unwrap_or_else(PoisonError::into_inner);
        self.upkeep.due(self.started.elapsed(), used.elapsed(), is_busy)
    }

    /// Returns it with what puts down what happens to it.
    pub(crate) fn logged_by(mut self, log: EventLog) -> Endpoint {
        self.log = Some(log);
        self
    }

    /// Returns it with what tells it from others.
    pub(crate) fn made_of_this(mut self, made_of: MadeOf) -> Endpoint {
        self.made_of = Some(made_of);
        self
    }

    /// Returns what tells it from others.
    pub(crate) fn made_of(&self) -> Option<&MadeOf> {
        self.made_of.as_ref()
    }

    /// Returns what puts down what happens to it, where something does.
    pub(crate) fn log(&self) -> Option<&EventLog> {
        self.log.as_ref()
    }

    /// Returns it with somebody who keeps a replica alive until it is dropped.
    pub(crate) fn kept_by(mut self, keeper: Arc<Stop>) -> Endpoint {
        self.keepers.push(keeper);
        self
    }

    /// Returns what becomes of replicas that have no worker, by number.
    pub(crate) fn without_worker(&self) -> BTreeMap<u32, Life> {
        self.lives().clone()
    }

    /// Returns how many sequences were accepted and are not in a batch.
    pub(crate) fn queue_depth(&self) -> usize {
        let there = |placed: &Arc<Placed>| {
            let status = placed.replica.generate.status();
            status.failure.map_or(status.occupancy.queue_depth, |_| 0)
        };
        self.line.depth() + self.replicas().iter().map(there).sum::<usize>()
    }

    /// Returns the line before its replicas.
    pub(crate) fn line(&self) -> &Arc<EdgeLine> {
        &self.line
    }

    /// Returns whether somebody brings replicas back that fail.
    pub(crate) fn is_kept(&self) -> bool {
        !self.keepers.is_empty() && !self.is_closed()
    }

    /// Notes that a replica is gone and what becomes of it.
    pub(crate) fn comes_back(&self, replica: u32, life: Life) {
        self.lives().insert(replica, life);
        self.change.send_replace(());
    }

    /// Lets each replica go on with another worker: the one it has takes no more calls, and what it has not answered within a time goes on
    /// with the next one.
    pub(crate) fn renew(&self, within: Duration) {
        self.keepers.iter().for_each(|keeper| keeper.renew(within));
    }

    /// Returns whether its calls had to end.
    pub(crate) fn is_closed(&self) -> bool {
        self.is_closed.load(Ordering::Acquire)
    }

    /// Ends its calls with an error, and its replicas.
    pub(crate) fn close(&self) {
        self.is_closed.store(true, Ordering::Release);
        self.let_go();
        self.change.send_replace(());
    }

    /// Tells those who keep its replicas alive to stop.
    pub(crate) fn let_go(&self) {
        self.keepers.iter().for_each(|keeper| keeper.set());
    }

    fn lives(&self) -> MutexGuard<'_, BTreeMap<u32, Life>> {
        self.lives.lock().unwrap_or_else(PoisonError::into_inner)
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
        self.lives().remove(&replica.number);
        replicas.push(Arc::new(Placed::new(replica)));
        replicas.sort_by_key(|placed| placed.replica.number);
        let all = replicas.clone();
        drop(replicas);
        self.line.serve_by(all);
        self.change.send_replace(());
    }

    /// Waits in the line until it is its turn at a replica.
    ///
    /// # Errors
    /// When too many wait, or all replicas have failed and none will be back soon. What was accepted before waits nevertheless, as long as
    /// there is hope.
    pub(crate) async fn turn(&self, entry: Entry) -> Result<Turn, NotTaken> {
        let limit = if entry.again {
            usize::MAX
        } else {
            self.limits().queue_depth
        };
        let mut change = self.change.subscribe();
        let longest = self.manner.said.longest_wait;
        let patience = Instant::now();
        let mut waiting = self
            .line
            .enter(entry, limit)
            .map_err(|depth| NotTaken::Refused(self.queue_full(depth)))?;
        loop {
            let given_up = |why: &NotReady| match why {
                NotReady::Failed { is_hopeless, .. } => *is_hopeless || !entry.again,
                NotReady::Stopped(_) | NotReady::Closed | NotReady::Starting(_) => true,
            };
            if let Some(why) = self.not_ready().filter(given_up) {
                return Err(NotTaken::NotReady(why));
            }
            // Whoever waits for a lane does so for as long as the queue lets one.
            let longest = longest.filter(|_| !self.has_replica());
            tokio::select! {
                biased;
                Ok(turn) = &mut waiting.turn => return Ok(turn),
                // The sender is this endpoint's own.
                _ = change.changed() => {}
                () = until(longest.and_then(|longest| patience.checked_add(longest))) => {
                    return Err(NotTaken::NotReady(NotReady::Starting(longest.unwrap_or_default())));
                }
            }
        }
    }

    fn queue_full(&self, depth: usize) -> Refusal {
        let residence = self
            .first_replica()
            .map_or(1.0, |placed| placed.replica.generate.status().residence);
        let retry_after = retry_after(depth, self.limits().width, residence);
        Refusal::QueueFull { depth, retry_after }
    }

    /// Refuses requests for which there is no room, before anything is done for them.
    ///
    /// # Errors
    /// When there is none.
    pub(crate) fn refuse_when_full(&self) -> Result<(), Refusal> {
        match self.line.full(self.limits().queue_depth) {
            Some(depth) if self.not_ready().is_none() => Err(self.queue_full(depth)),
            _ => Ok(()),
        }
    }

    /// Returns whether a replica takes requests.
    fn has_replica(&self) -> bool {
        let takes = |placed: &Arc<Placed>| placed.replica.generate.given().is_some();
        self.replicas().iter().any(takes)
    }

    /// Returns why nobody takes requests, where nobody does and nobody will soon.
    fn not_ready(&self) -> Option<NotReady> {
        if self.is_closed() {
            return Some(NotReady::Closed);
        }
        if self.has_replica() {
            return None;
        }
        let replicas = self.replicas();
        if self.is_kept() {
            return self.failed();
        }
        let failure = replicas
            .first()
            .and_then(|placed| placed.replica.generate.status().failure);
        Some(NotReady::Stopped(failure.unwrap_or_else(|| "it has no replica".into())))
    }

    /// Returns why nobody needs to wait: no replica is being started.
    fn failed(&self) -> Option<NotReady> {
        let lives = self.lives();
        if lives.len() < self.replicas().len() {
            return None;
        }
        let failed = lives.values().map(|life| match life {
            Life::Starting(_) | Life::Draining => None,
            Life::Failed {
                why,
                until,
                is_hopeless,
            } => Some((*until, why, *is_hopeless)),
        });
        let failed: Option<Vec<_>> = failed.collect();
        let (until, why, is_hopeless) = failed?.into_iter().min()?;
        let retry_after = until.saturating_duration_since(Instant::now());
        Some(NotReady::Failed {
            why: why.clone(),
            retry_after,
            is_hopeless,
        })
    }

    /// Returns its replicas that have a worker, or had one, in the order of their numbers.
    pub fn replicas(&self) -> Vec<Arc<Placed>> {
        self.replicas.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Returns its first replica that has a worker, or had one.
    pub(crate) fn first_replica(&self) -> Option<Arc<Placed>> {
        let replicas = self.replicas.read().unwrap_or_else(PoisonError::into_inner);
        replicas.first().cloned()
    }

    /// Returns what each of its replicas may spend.
    pub(crate) fn limits(&self) -> &Limits {
        &self.plan.assignment.limits
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

    /// Returns its state.
    pub fn state(&self) -> State {
        let mut states: Vec<State> = self.replicas().iter().map(|placed| self.state_of(placed)).collect();
        states.extend(self.lives().values().map(Life::state));
        state::of_replicas(&states)
    }

    /// Returns why a replica of it has failed, where one has.
    pub(crate) fn failure(&self) -> Option<String> {
        self.lives().values().find_map(|life| match life {
            Life::Failed { why, .. } => Some(why.clone()),
            _ => None,
        })
    }

    /// Returns the state of one of its replicas: `ready`, `draining`, `starting` again, or `failed`.
    pub(crate) fn state_of(&self, placed: &Placed) -> State {
        match self.lives().get(&placed.replica.number) {
            Some(life) => life.state(),
            None if !placed.has_failed() => State::Ready,
            // Whoever keeps it has not noticed yet.
            None if self.is_kept() => State::Starting,
            None => State::Failed,
        }
    }
}

impl Drop for Endpoint {
    fn drop(&mut self) {
        self.let_go();
    }
}

/// Waits until a moment; for ever without one.
async fn until(moment: Option<Instant>) {
    match moment {
        Some(moment) => tokio::time::sleep_until(moment.into()).await,
        None => std::future::pending().await,
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
