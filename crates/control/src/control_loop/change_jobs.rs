//! The job of a change: its number, its phases, and how it ended.

use super::terms::{Change, SpecText, change_kind};
use crate::jobs::Job;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::oneshot;
use vastrelay_fleet::decider::{About, Failure, Outcome, Refused};
use vastrelay_store::{JobRecord, milliseconds_since_1970};

/// How a change ended, as it is kept.
#[derive(Clone)]
pub struct Ended {
    pub number: i64,
    /// In one word.
    pub state: &'static str,
    /// For people.
    pub outcome: String,
    /// The job, which knows what it said.
    pub job: Option<Arc<Job>>,
}

/// A change from its request to its end.
pub struct ChangeJob {
    pub name: String,
    pub by: String,
    pub kind: &'static str,
    /// The spec of a deployment.
    spec: Option<SpecText>,
    /// The model of a deployment, else empty.
    model: String,
    /// Whether the endpoint was served at the time of the request.
    was_served: bool,
    /// Its job, once it is under way.
    pub job: Option<Arc<Job>>,
    /// Hears whether it is under way.
    answer: Option<oneshot::Sender<Result<Accepted, Refused>>>,
    outcome: Arc<OutcomeCell>,
}

/// How a change ended, once it has.
#[derive(Default)]
struct OutcomeCell(Mutex<Option<Outcome>>);

/// A change that is under way.
pub struct Accepted {
    /// Its job.
    pub job: Arc<Job>,
    outcome: Arc<OutcomeCell>,
}

impl Accepted {
    /// Returns what came of the change, for people, once it is over.
    pub fn text(&self) -> String {
        self.job.record().outcome
    }

    /// Waits until the change is over; returns how it ended.
    pub async fn over(&self) -> Outcome {
        let mut over = self.job.over();
        // The sender is the job's own, which is held here.
        let _ = over.wait_for(|over| *over).await;
        let outcome = self.outcome.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
        outcome.unwrap_or_else(|| Outcome::GivenUp {
            failure: Failure::other("the service ends".into()),
        })
    }
}

impl ChangeJob {
    /// Returns the job of a change that is not accepted yet.
    pub fn new(
        name: &str,
        by: &str,
        change: &Change,
        was_served: bool,
        answer: Option<oneshot::Sender<Result<Accepted, Refused>>>,
    ) -> ChangeJob {
        let spec = match change {
            Change::Deploy { spec, .. } => Some(spec.clone()),
            _ => None,
        };
        let request = spec.as_ref().and_then(|spec| spec.request(name).ok());
        ChangeJob {
            spec,
            model: request
                .map(|request| request.model().display().to_string())
                .unwrap_or_default(),
            was_served,
            name: name.to_owned(),
            by: by.to_owned(),
            kind: change_kind(change),
            job: None,
            answer,
            outcome: Arc::default(),
        }
    }

    /// Returns its job as it is kept when it begins.
    pub fn record(&self, number: i64) -> JobRecord {
        JobRecord {
            number,
            at_ms: milliseconds_since_1970(),
            kind: self.kind.into(),
            name: self.model.clone(),
            endpoint: self.name.clone(),
            who: self.by.clone(),
            state: "running".into(),
            ..JobRecord::default()
        }
    }

    /// Tells the caller whether it is under way.
    pub fn answers(&mut self, accepted: Result<(), Refused>) {
        let Some(answer) = self.answer.take() else { return };
        let answered = accepted.and_then(|()| {
            let job = self.job.clone();
            job.map(|job| Accepted {
                job,
                outcome: self.outcome.clone(),
            })
            .ok_or(Refused::NotStored {
                why: "it has no job".into(),
            })
        });
        // A caller who has gone does not want to know.
        let _ = answer.send(answered);
    }

    /// Returns how it would be kept with an end.
    pub fn ended(&self, number: i64, outcome: &Outcome) -> Ended {
        let (state, text) = match outcome {
            Outcome::Reached => ("done", reached(self.kind)),
            Outcome::Replaced { by } => ("replaced", format!("job {by} took its place")),
            Outcome::GivenUp { failure } if failure.about == About::Cancelled => ("cancelled", failure.why.clone()),
            Outcome::GivenUp { failure } => ("failed", self.explain(failure)),
        };
        Ended {
            number,
            state,
            outcome: text,
            job: self.job.clone(),
        }
    }

    /// Notes how it ended, and returns that as it is kept.
    pub fn is_over(&self, number: i64, outcome: &Outcome) -> Ended {
        *self.outcome.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(outcome.clone());
        let ended = self.ended(number, outcome);
        if let Some(job) = &self.job {
            job.is_over(ended.state, ended.outcome.clone());
        }
        ended
    }

    /// Says why it failed: with the place in the spec that is to blame, and the pause that would help.
    fn explain(&self, failure: &Failure) -> String {
        let (name, text) = (&self.name, format!("`{}` cannot be served: {}", self.name, failure.why));
        let Some(spec) = &self.spec else { return text };
        match &failure.about {
            About::Room(_) if self.was_served => format!(
                "there is no room beside what `{name}` holds now; with a pause for its callers it can be stopped first (`with_pause`): \
                 {text}"
            ),
            _ => spec.refused(name, failure).unwrap_or(text),
        }
    }

    /// Puts down what it says.
    pub fn log(&self, line: &str) {
        self.job.iter().for_each(|job| job.log(line));
    }
}

/// Returns what a change has reached, for people.
fn reached(kind: &str) -> String {
    match kind {
        "deploy" | "start" => "the endpoint is ready",
        "stop" => "the endpoint is stopped",
        "park" => "the endpoint is parked",
        "renew" => "the endpoint has another worker",
        _ => "nothing is left of the endpoint",
    }
    .into()
}
