//! Long work of the service: with progress, log, cancel and history.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::watch;
use vastrelay_store::{JobRecord, Store, StoreError, milliseconds_since_1970};
use vastrelay_wire::manage::JobEntry;

/// Time between two looks at whether a job that waits was cancelled.
const LOOK: Duration = Duration::from_millis(100);
/// How far a job has to be before one can tell how long the rest takes.
const TELLS: f64 = 0.05;
const QUEUED: &str = "queued";
const RUNNING: &str = "running";

/// The jobs that are under way.
pub struct Jobs {
    store: Arc<Store>,
    live: Mutex<BTreeMap<i64, Arc<Job>>>,
    /// Whether a job that needs much of the machine is under way; the others wait.
    busy: Mutex<bool>,
    free: Condvar,
}

/// A job that is under way.
pub struct Job {
    state: Mutex<JobState>,
    is_cancelled: AtomicBool,
    /// Does what ends it early.
    end: Box<dyn Fn() + Send + Sync>,
    /// Told when it is over.
    over: watch::Sender<bool>,
}

struct JobState {
    record: JobRecord,
    begun: Option<Instant>,
    part: Option<f64>,
}

/// The description of a job.
pub struct NewJob<'a> {
    /// Its kind, in one word.
    pub kind: &'a str,
    /// Its title, for people.
    pub name: String,
    /// The endpoint that it is for; empty where it is for none.
    pub endpoint: &'a str,
    /// Its author.
    pub who: &'a str,
}

/// How a job ends.
pub enum JobEnd {
    /// Done, with what came of it.
    Done(String),
    /// Failed, and why.
    Failed(String),
    /// The job was cancelled.
    Cancelled,
}

/// Why a job is not cancelled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotCancelled {
    /// It is not under way.
    Over,
    /// It holds from its beginning on.
    Holds {
        /// Its kind.
        kind: String,
        /// Its endpoint.
        endpoint: String,
    },
}

/// The right to much of the machine, given back when it is dropped.
pub struct Turn<'a>(&'a Jobs);

impl Jobs {
    /// Returns no jobs; those of an earlier service that were under way were interrupted.
    pub fn new(store: Arc<Store>) -> Jobs {
        if let Err(error) = store.interrupt_jobs([QUEUED, RUNNING]) {
            tracing::warn!(%error, "what became of earlier jobs is not kept");
        }
        Jobs {
            store,
            live: Mutex::default(),
            busy: Mutex::new(false),
            free: Condvar::new(),
        }
    }

    /// Takes a job in, which waits until it [runs](Jobs::runs). `end` is what ends it early.
    ///
    /// # Errors
    /// When it cannot be kept.
    pub fn start(&self, new: &NewJob<'_>, end: impl Fn() + Send + Sync + 'static) -> Result<Arc<Job>, StoreError> {
        let mut record = JobRecord {
            at_ms: milliseconds_since_1970(),
            kind: new.kind.into(),
            name: new.name.clone(),
            endpoint: new.endpoint.into(),
            who: new.who.into(),
            state: QUEUED.into(),
            ..JobRecord::default()
        };
        record.number = self.store.next_job();
        self.store.begin_job(&record)?;
        Ok(self.add(record, None, end))
    }

    /// Adds a job whose record another component stores; `begun` is its start, if it has started.
    pub fn add(&self, record: JobRecord, begun: Option<Instant>, end: impl Fn() + Send + Sync + 'static) -> Arc<Job> {
        let number = record.number;
        let job = Arc::new(Job {
            state: Mutex::new(JobState {
                record,
                begun,
                part: None,
            }),
            is_cancelled: AtomicBool::new(false),
            end: Box::new(end),
            over: watch::Sender::new(false),
        });
        self.live().insert(number, job.clone());
        job
    }

    /// Forgets a job that is over and kept.
    pub fn forget(&self, number: i64) {
        self.live().remove(&number);
    }

    /// Waits until a job may take much of the machine; nothing comes of one that is cancelled or given up meanwhile.
    pub fn turn(&self, job: &Job, given_up: &dyn Fn() -> bool) -> Option<Turn<'_>> {
        let mut busy = self.busy.lock().unwrap_or_else(PoisonError::into_inner);
        while *busy {
            if job.is_cancelled() || given_up() {
                return None;
            }
            let waited = self.free.wait_timeout(busy, LOOK);
            busy = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
        if job.is_cancelled() {
            return None;
        }
        *busy = true;
        drop(busy);
        self.runs(job);
        Some(Turn(self))
    }

    /// Notes that a job is under way.
    pub fn runs(&self, job: &Job) {
        let mut state = job.lock();
        state.begun = Some(Instant::now());
        state.record.state = RUNNING.into();
        self.keep(&state.record);
    }

    /// Notes that a job is over, and keeps that.
    pub fn ends(&self, job: &Job, end: JobEnd) {
        let (word, outcome) = match end {
            JobEnd::Done(outcome) => ("done", outcome),
            JobEnd::Failed(why) => ("failed", why),
            JobEnd::Cancelled => ("cancelled", "somebody has cancelled it".into()),
        };
        let record = job.is_over(word, outcome);
        self.keep(&record);
        self.forget(record.number);
    }

    fn keep(&self, record: &JobRecord) {
        if let Err(error) = self.store.update_job(record) {
            tracing::warn!(job = record.number, %error, "how far a job is is not kept");
        }
    }

    /// Returns the newest jobs of a kind, or of all of them, newest first.
    ///
    /// # Errors
    /// The database's own.
    pub fn list(&self, kind: Option<&str>, most: usize) -> Result<Vec<JobEntry>, StoreError> {
        let kept = self.store.jobs(kind, most)?;
        Ok(kept.into_iter().map(|record| self.entry(record, false)).collect())
    }

    /// Returns a job, with what it said; nothing where there is none.
    ///
    /// # Errors
    /// The database's own.
    pub fn one(&self, number: i64) -> Result<Option<JobEntry>, StoreError> {
        let kept = self.store.job(number)?;
        Ok(kept.map(|record| self.entry(record, true)))
    }

    /// Ends a job early.
    ///
    /// # Errors
    /// When it is not under way, or cannot be ended.
    pub fn cancel(&self, number: i64) -> Result<(), NotCancelled> {
        let job = self.live().get(&number).cloned();
        match job {
            None => Err(NotCancelled::Over),
            Some(job) if job.holds() => {
                let JobRecord { kind, endpoint, .. } = job.record();
                Err(NotCancelled::Holds { kind, endpoint })
            }
            Some(job) => {
                job.is_cancelled.store(true, Ordering::Release);
                (job.end)();
                Ok(())
            }
        }
    }

    /// Returns a job as it stands; one that is under way is told by itself.
    fn entry(&self, kept: JobRecord, with_log: bool) -> JobEntry {
        let live = self.live().get(&kept.number).cloned();
        let (record, begun, part) = match &live {
            Some(job) => {
                let state = job.lock();
                (state.record.clone(), state.begun, state.part)
            }
            None => (kept, None, None),
        };
        let now = milliseconds_since_1970();
        let seconds = match (begun, record.ended_ms) {
            (Some(begun), _) => begun.elapsed().as_secs_f64(),
            (None, Some(ended)) => ended.saturating_sub(record.at_ms) as f64 / 1000.0,
            (None, None) => 0.0,
        };
        JobEntry {
            number: record.number,
            kind: record.kind,
            name: record.name,
            endpoint: record.endpoint,
            who: record.who,
            state: record.state,
            at_ms: record.at_ms,
            seconds_ago: now.saturating_sub(record.at_ms) as f64 / 1000.0,
            seconds,
            part,
            seconds_left: part
                .filter(|part| *part > TELLS)
                .map(|part| seconds * (1.0 - part) / part),
            outcome: record.outcome,
            log: with_log.then_some(record.log),
        }
    }

    fn live(&self) -> MutexGuard<'_, BTreeMap<i64, Arc<Job>>> {
        self.live.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Job {
    /// Returns its number.
    pub fn number(&self) -> i64 {
        self.lock().record.number
    }

    /// Returns whether somebody wants it to end early.
    pub fn is_cancelled(&self) -> bool {
        self.is_cancelled.load(Ordering::Acquire)
    }

    /// Notes that it is over; returns its record.
    pub fn is_over(&self, state: &str, outcome: String) -> JobRecord {
        let mut state_now = self.lock();
        let record = &mut state_now.record;
        (record.state, record.outcome) = (state.to_owned(), outcome);
        record.ended_ms = Some(milliseconds_since_1970());
        let record = record.clone();
        drop(state_now);
        tracing::info!(
            job = record.number,
            kind = record.kind,
            state = record.state,
            outcome = record.outcome,
            "{}",
            record.name
        );
        self.over.send_replace(true);
        record
    }

    /// Returns what tells when it is over.
    pub fn over(&self) -> watch::Receiver<bool> {
        self.over.subscribe()
    }

    /// Returns whether it takes effect on acceptance and cannot be cancelled: a stop or a removal.
    fn holds(&self) -> bool {
        matches!(self.lock().record.kind.as_str(), "stop" | "remove")
    }

    /// Returns its record as it stands.
    pub fn record(&self) -> JobRecord {
        self.lock().record.clone()
    }

    /// Notes how far it is.
    pub fn is_so_far(&self, part: f64) {
        self.lock().part = Some(part.clamp(0.0, 1.0));
    }

    /// Puts down what it says.
    pub fn log(&self, line: &str) {
        let mut state = self.lock();
        state.record.log.push_str(line);
        state.record.log.push('\n');
    }

    fn lock(&self) -> MutexGuard<'_, JobState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        *self.0.busy.lock().unwrap_or_else(PoisonError::into_inner) = false;
        self.0.free.notify_all();
    }
}
