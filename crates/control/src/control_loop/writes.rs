//! Writes the decider's transactions, one after the other, on a separate thread: deciding never waits for the database.

use super::Parts;
use super::change_jobs::Ended;
use super::terms::{SpecText, Write, record};
use crate::jobs::Job;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use vastrelay_fleet::decider::{About, ActionId, Desired, Failure};
use vastrelay_planner::amounts::bytes;
use vastrelay_store::{AtOnce, DesiredRecord, JobRecord, StoreError, StoredState, milliseconds_since_1970};

/// A transaction, with the words that jobs have beside it.
pub enum Task {
    /// Notes a change as under way.
    Begin {
        id: ActionId,
        write: Write,
        job: Box<JobRecord>,
        /// The end of the job whose place it takes.
        replaced: Option<Ended>,
    },
    /// Notes how a change ended.
    End { id: ActionId, write: Write, ended: Ended },
    /// Notes that an endpoint is another release from now on.
    Became { id: ActionId, write: Write },
    /// Deletes unused builds after the removal of an endpoint.
    Forget { name: String, job: Option<Arc<Job>> },
    /// Stores whether an endpoint is parked; no event depends on it.
    Stand { name: String, state: StoredState },
}

/// Takes transactions.
pub type Writes = Sender<Task>;

/// Begins to write; `wrote` hears how each transaction ended.
///
/// # Errors
/// When the system refuses a thread.
pub fn start(
    parts: Arc<Parts>,
    wrote: impl Fn(ActionId, Result<(), Failure>) + Send + 'static,
) -> std::io::Result<Writes> {
    let (sender, tasks) = channel();
    let thread = std::thread::Builder::new().name("control-writes".into());
    thread.spawn(move || write_all(&parts, &tasks, wrote))?;
    Ok(sender)
}

fn write_all(parts: &Parts, tasks: &Receiver<Task>, wrote: impl Fn(ActionId, Result<(), Failure>)) {
    for task in tasks {
        let id = task.id();
        let written = parts
            .guard("a transaction", || write(parts, task))
            .unwrap_or(Err(StoreError::Lost));
        if let Err(error) = &written {
            tracing::warn!(%error, "a change of an endpoint could not be written; it is tried again");
        }
        if let Some(id) = id {
            wrote(id, written.map_err(failure));
        }
    }
}

impl Task {
    /// Returns the number of the action that waits for it, where one does.
    fn id(&self) -> Option<ActionId> {
        match self {
            Task::Begin { id, .. } | Task::End { id, .. } | Task::Became { id, .. } => Some(*id),
            Task::Forget { .. } | Task::Stand { .. } => None,
        }
    }
}

fn write(parts: &Parts, task: Task) -> Result<(), StoreError> {
    let store = &parts.store;
    match task {
        Task::Begin {
            write, job, replaced, ..
        } => {
            let Write::Accept {
                name,
                generation,
                change,
                ..
            } = write
            else {
                return Ok(());
            };
            let at_once = match &change {
                vastrelay_fleet::decider::Change::Stop { .. } => AtOnce::Stops,
                vastrelay_fleet::decider::Change::Remove => AtOnce::Removes,
                _ => AtOnce::Nothing,
            };
            let change = record(&name, number(generation), &change);
            let replaced = replaced.map(Ended::record);
            store.begin_change(change, *job, at_once, replaced)
        }
        Task::End { write, ended, .. } => {
            let Write::End { name, desired, .. } = write else {
                return Ok(());
            };
            let desired = desired.map(|desired| desired_record(&name, desired));
            store.end_change(&name, ended.record(), desired)
        }
        Task::Became { write, .. } => {
            let Write::Became { name, desired } = write else {
                return Ok(());
            };
            store.becomes(desired_record(&name, desired))
        }
        Task::Forget { name, job } => forget(parts, &name, job.as_deref()),
        Task::Stand { name, state } => store.set_state(&name, state).map(drop),
    }
}

/// Deletes unused builds and writes them to the log of the job.
fn forget(parts: &Parts, name: &str, job: Option<&Job>) -> Result<(), StoreError> {
    let Some(builds) = &parts.loader.builds else {
        return Ok(());
    };
    for build in builds.release(name)? {
        let size = bytes(usize::try_from(build.bytes).unwrap_or(usize::MAX));
        let text = format!(
            "deleted its build of {} in {}, {size}: no other endpoint uses it",
            build.source, build.precision
        );
        job.into_iter().for_each(|job| job.log(&text));
    }
    Ok(())
}

fn desired_record(name: &str, desired: Desired<SpecText>) -> DesiredRecord {
    let state = match desired.serving {
        true => StoredState::Served,
        false => StoredState::Stopped,
    };
    DesiredRecord {
        kept: desired.spec.to_keep(name, state, desired.release),
        identity: desired.identity,
    }
}

fn failure(error: StoreError) -> Failure {
    Failure {
        why: error.to_string(),
        about: About::Store,
    }
}

/// Returns the number of the job of a change.
pub fn number(generation: u64) -> i64 {
    i64::try_from(generation).unwrap_or(i64::MAX)
}

impl Ended {
    fn record(self) -> vastrelay_store::JobEnd {
        vastrelay_store::JobEnd {
            number: self.number,
            state: self.state.into(),
            outcome: self.outcome,
            log: self.job.map(|job| job.record().log).unwrap_or_default(),
            at_ms: milliseconds_since_1970(),
        }
    }
}
