//! Changes of endpoints over HTTP: when they are under way, how long a caller waits for them, and how they end.

use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::http::header::LOCATION;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;
use vastrelay_control::control_loop::{Accepted, Control};
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::jobs::Jobs;
use vastrelay_fleet::decider::{About, Failure, Outcome, Refused};
use vastrelay_wire::manage::JobEntry;

/// The parts that handlers of changes use.
pub(super) type Parts = (
    web::Data<Control>,
    web::Data<Endpoints>,
    web::Data<Jobs>,
    web::Data<Records>,
);

/// Longest that a caller may wait for the end of a change.
const MOST_WAIT: Duration = Duration::from_secs(3_600);

/// How long a caller waits for the end of a change.
#[derive(Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct WaitQuery {
    /// Wait so long for the end of the change, such as `30s`; without, the answer comes as soon as the change is under way.
    wait: Option<String>,
}

impl WaitQuery {
    /// Returns the time.
    ///
    /// # Errors
    /// 400 when it is none, or too long.
    pub(super) fn time(&self) -> Result<Duration, Problem> {
        let Some(text) = &self.wait else {
            return Ok(Duration::ZERO);
        };
        let time = humantime::parse_duration(text).ok().filter(|time| *time <= MOST_WAIT);
        time.ok_or_else(|| {
            Problem::field(
                "wait",
                format!("`{text}` is no time from 0s to 1h; write it like `30s`"),
            )
        })
    }
}

/// Waits for the end of a change; nothing comes of one that takes longer.
pub(super) async fn outcome(accepted: &Accepted, wait: Duration) -> Option<Outcome> {
    match wait.is_zero() {
        true => None,
        false => tokio::time::timeout(wait, accepted.over()).await.ok(),
    }
}

/// Answers that a change is under way: 202 with its job.
pub(super) async fn under_way(
    jobs: &web::Data<Jobs>,
    records: &web::Data<Records>,
    accepted: &Accepted,
) -> Result<HttpResponse, Problem> {
    let number = accepted.job.number();
    let job = job_entry(jobs, records, number).await?;
    Ok(HttpResponse::Accepted()
        .insert_header((LOCATION, format!("/manage/jobs/{number}")))
        .json(job))
}

/// Returns a job with what it said.
///
/// # Errors
/// 404 when there is none.
pub(super) async fn job_entry(
    jobs: &web::Data<Jobs>,
    records: &web::Data<Records>,
    number: i64,
) -> Result<JobEntry, Problem> {
    let jobs = jobs.clone();
    let found = records.query(move |_| jobs.one(number)).await?;
    found.ok_or_else(|| {
        Problem::not_kept(format!(
            "no job {number} is kept; `vastrelay job list` lists those there are"
        ))
    })
}

/// Returns why a change is not under way.
pub(super) fn refused(refused: Refused, name: &str, endpoints: &Endpoints) -> Problem {
    match refused {
        Refused::Unknown => match endpoints.state_of(name) {
            Err(unknown) => unknown.into(),
            Ok(_) => Problem::conflict(
                "endpoint_not_served",
                format!("`{name}` is not controlled by this service"),
            ),
        },
        Refused::Stale { now } => Problem::conflict(
            "release_changed",
            format!(
                "`{name}` has release {now} now, so the release that the change began from is out of date: it changed since you read it; \
                 read it again, then deploy"
            ),
        ),
        Refused::Served => {
            let state = endpoints.state_of(name).map_or("served", |state| state.name());
            Problem::conflict(
                "endpoint_served",
                format!("`{name}` is {state}; there is nothing to start"),
            )
        }
        Refused::Starting => not_served(name, "starting", endpoints),
        Refused::NotServed => not_served(name, "not served", endpoints),
        Refused::Replaced { by } => Problem::conflict(
            "change_replaced",
            format!("job {by} took the place of this change of `{name}`"),
        ),
        Refused::NotStored { why } => {
            Problem::unavailable("not_stored", &format!("the change is not under way: {why}"))
        }
    }
}

fn not_served(name: &str, state: &str, endpoints: &Endpoints) -> Problem {
    match endpoints.get(name) {
        Err(not_served) => not_served.into(),
        Ok(_) => Problem::conflict("endpoint_not_served", format!("`{name}` is {state}")),
    }
}

/// Returns why a change has not reached what it wanted.
pub(super) fn given_up(outcome: Outcome, name: &str, refusal: impl FnOnce(&Failure) -> Problem) -> Problem {
    match outcome {
        Outcome::GivenUp { failure } if failure.about == About::Cancelled => {
            Problem::conflict("change_cancelled", format!("`{name}`: {}", failure.why))
        }
        Outcome::GivenUp { failure } => refusal(&failure),
        Outcome::Replaced { by } => Problem::conflict(
            "change_replaced",
            format!("job {by} took the place of this change of `{name}`"),
        ),
        // The caller has an answer for this.
        Outcome::Reached => Problem::internal("the change has reached what it wanted".into()),
    }
}

/// Returns why an endpoint cannot be served, in words that have been found for it.
pub(super) fn not_deployed(failure: &Failure, text: String, is_served: bool) -> Problem {
    match &failure.about {
        About::Room(_) if is_served => Problem::conflict("pause_needed", text),
        About::Spec(_) | About::Room(_) => Problem::field("path", text),
        About::Store => Problem::internal(text),
        About::Worker | About::Cancelled | About::Other => Problem::unavailable("endpoint_failed", &text),
    }
}

/// Returns why an endpoint cannot be started again: 409 when it has no room now, else 503, with the reason.
pub(super) fn not_started(failure: &Failure, text: String) -> Problem {
    match failure.is_for_want_of_room() {
        true => Problem::conflict("no_room", text),
        false => Problem::unavailable("endpoint_failed", &text),
    }
}
