//! Changes and their jobs: notes, ends and answers.

use super::{EndingJob, Shell};
use crate::control_loop::change_jobs::ChangeJob;
use crate::control_loop::terms::{Change, Event, Write};
use crate::control_loop::writes::{Task, number};
use crate::control_loop::{Message, Parts};
use crate::events::{EventLog, SERVICE};
use crate::jobs::Job;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use vastrelay_fleet::decider::{ActionId, Generation, Millis, Outcome, Refused};
use vastrelay_store::JobRecord;
use vastrelay_wire::manage::EventKind;

impl Shell {
    pub(super) fn write(&mut self, id: ActionId, write: Write) {
        let task = match &write {
            Write::Accept {
                generation, replaces, ..
            } => {
                let Some(change) = self.changes.get_mut(generation) else {
                    return;
                };
                let job = match &change.job {
                    Some(job) => job.record(),
                    None => {
                        let record = change.record(number(*generation));
                        let job = add_job(&self.parts, &self.inbox, record, *generation);
                        change.job = Some(job.clone());
                        job.record()
                    }
                };
                let replaced = replaces.and_then(|replaced| {
                    self.replacing.insert(*generation, replaced);
                    let outcome = Outcome::Replaced { by: *generation };
                    let change = self.changes.get(&replaced)?;
                    Some(change.ended(number(replaced), &outcome))
                });
                Task::Begin {
                    id,
                    job: Box::new(job),
                    replaced,
                    write,
                }
            }
            Write::End {
                name,
                generation,
                outcome,
                ..
            } => {
                // A transaction that failed is written again.
                if let Some(change) = self.changes.remove(generation) {
                    self.end_job(id, *generation, name, change, outcome);
                }
                let Some(EndingJob { ended, .. }) = self.termination.get(&id) else {
                    return;
                };
                let ended = ended.clone();
                Task::End { id, write, ended }
            }
            Write::Became { .. } => Task::Became { id, write },
        };
        // The thread that writes ends with the service.
        let _ = self.writes.send(task);
    }

    /// Notes how a change ended, before that is written.
    fn end_job(&mut self, id: ActionId, generation: Generation, name: &str, change: ChangeJob, outcome: &Outcome) {
        let ended = change.ended(number(generation), outcome);
        if let Outcome::GivenUp { failure } = outcome
            && change.kind == "deploy"
        {
            self.parts.endpoints.note_failed(name, failure.why.clone());
        }
        let mut removal = None;
        match change.kind {
            "remove" => removal = Some((change, outcome.clone())),
            _ => self.untold.push((generation, change, outcome.clone())),
        }
        self.termination.insert(id, EndingJob { ended, removal });
    }

    pub(super) fn answer(&mut self, generation: Generation, accepted: Result<(), Refused>) {
        let replaced = self.replacing.remove(&generation);
        let is_accepted = accepted.is_ok();
        if let Some(change) = self.changes.get_mut(&generation) {
            change.answers(accepted);
        }
        match is_accepted {
            true => {
                let replaced = replaced.and_then(|replaced| Some((replaced, self.changes.remove(&replaced)?)));
                if let Some((replaced, change)) = replaced {
                    self.untold
                        .push((replaced, change, Outcome::Replaced { by: generation }));
                }
                self.put_down(generation);
            }
            false => {
                self.changes.remove(&generation);
                self.parts.jobs.forget(number(generation));
            }
        }
    }

    /// Puts down that a change is under way.
    fn put_down(&mut self, generation: Generation) {
        let Some(change) = self.changes.get(&generation) else {
            return;
        };
        let (name, by) = (change.name.clone(), change.by.clone());
        let underway = self
            .decider
            .endpoints()
            .get(&name)
            .and_then(|endpoint| endpoint.change.clone());
        let Some(underway) = underway.filter(|underway| underway.generation == generation) else {
            return;
        };
        let now = humantime::format_rfc3339_seconds(std::time::SystemTime::now());
        let who = |verb: &str| match by.as_str() {
            "" => format!("the service's user {verb} it at {now}"),
            SERVICE => format!("its time was over at {now} (`stop_after`)"),
            by => format!("{by} {verb} it at {now}"),
        };
        let seconds = |within: Millis| Duration::from_millis(within).as_secs_f64();
        let reasons = self.reasons.entry(name.clone()).or_default();
        let (what, why) = match underway.change {
            Change::Stop { within } => {
                reasons.stopped = who("stopped");
                let mut text = format!("requests have {} s to end", seconds(within));
                if by == SERVICE {
                    text.push_str("; its time is over (`stop_after`)");
                }
                (EventKind::Stopped, text)
            }
            Change::Park { .. } => {
                reasons.parked = who("parked");
                (EventKind::Parked, reasons.parked.clone())
            }
            Change::Renew { within } => {
                let text = format!("requests have {} s to end where they are", seconds(within));
                (EventKind::Renewed, text)
            }
            Change::Remove => (EventKind::Removed, "its running answers are completed".into()),
            // The start of their worker records these.
            Change::Deploy { .. } | Change::Start => return,
        };
        self.log_of(&name).done_by(&by, what, why);
    }

    /// Returns what puts down what happens to an endpoint, also to one that is not served.
    pub(super) fn log_of(&self, name: &str) -> EventLog {
        let object = self.runs.values().rev().find(|object| object.name == name);
        object.map_or_else(
            || EventLog::new(&self.parts.store, name, 0),
            |object| object.log.clone(),
        )
    }

    /// Puts down a phase of the change of an endpoint.
    pub(super) fn log(&self, name: &str, line: &str) {
        let underway = self
            .decider
            .endpoints()
            .get(name)
            .and_then(|endpoint| endpoint.change.as_ref());
        let change = underway.and_then(|underway| self.changes.get(&underway.generation));
        change.into_iter().for_each(|change| change.log(line));
    }

    pub(super) fn forget(&mut self, name: String) {
        self.reasons.remove(&name);
        self.parts.endpoints.forget_log(&name);
        let change = self.changes.values().find(|change| change.name == name);
        let job = change.and_then(|change| change.job.clone());
        let _ = self.writes.send(Task::Forget { name, job });
    }
}

/// Takes in the job of a change; cancelling it withdraws the change.
pub(super) fn add_job(parts: &Parts, inbox: &Sender<Message>, record: JobRecord, generation: Generation) -> Arc<Job> {
    let inbox = Mutex::new(inbox.clone());
    let withdraw = move || {
        if let Ok(inbox) = inbox.lock() {
            let _ = inbox.send(Message::Event(Event::Withdrawn { generation }));
        }
    };
    parts.jobs.add(record, Some(Instant::now()), withdraw)
}
