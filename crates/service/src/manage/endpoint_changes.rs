//! Endpoints that are stopped, parked, started, renewed and removed.

use super::change::{Parts, WaitQuery, given_up, job_entry, not_started, outcome, refused, under_way};
use super::status::{endpoint_status, resting_endpoint};
use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use actix_web::{HttpResponse, web};
use vastrelay_control::control_loop::Change;
use vastrelay_fleet::decider::Outcome;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EndpointStatus, EndpointStop, JobEntry, Renewal, RestingEndpoint};
use vastrelay_wire::parse::parse_body;

/// Most seconds that requests may have to end.
const MOST_WITHIN: f64 = 24.0 * 3600.0;

/// `POST /manage/endpoints/{name}/renew`: gives each replica another worker. The old worker takes no more requests; requests that
/// have not ended within a time continue on the next worker, and no token is lost or sent twice. New requests wait meanwhile.
///
/// # Errors
/// 400 when the time cannot be; 404 when there is no such endpoint; 409 when it has no worker.
#[utoipa::path(post, path = "/manage/endpoints/{name}/renew", operation_id = "renew_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), WaitQuery), request_body = Renewal, responses(
    (status = 200, body = EndpointStatus), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn renew(
    parts: Parts,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    query: web::Query<WaitQuery>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let Renewal { within } = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let change = Change::Renew { within: limit(within)? };
    let ended = changed(&parts, &name, caller.name(), change, &query).await?;
    let (_, endpoints, ..) = &parts;
    match ended {
        Ok(()) => Ok(HttpResponse::Ok().json(endpoint_status(&*endpoints.get(&name)?))),
        Err(under_way) => Ok(under_way),
    }
}

/// `POST /manage/endpoints/{name}/stop`: stops serving an endpoint. New calls get 503 `endpoint_stopped` until its next start; running
/// calls have a time to end, and end with an error then. The service keeps its spec.
///
/// # Errors
/// 400 when the time cannot be; 404 when there is no such endpoint; 409 when a newer change has taken its place.
#[utoipa::path(post, path = "/manage/endpoints/{name}/stop", operation_id = "stop_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), WaitQuery), request_body = EndpointStop, responses(
    (status = 200, body = RestingEndpoint), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn stop(
    parts: Parts,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    query: web::Query<WaitQuery>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    rest(&parts, &caller, &name, &query, &body, |within| Change::Stop { within }).await
}

/// `POST /manage/endpoints/{name}/park`: releases an endpoint's memory until its next call, which starts it again and waits. Calls that
/// run have a time to end, and end with an error then.
///
/// # Errors
/// 400 when the time cannot be; 404 when there is no such endpoint; 409 when it is not served or a newer change has taken its place.
#[utoipa::path(post, path = "/manage/endpoints/{name}/park", operation_id = "park_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), WaitQuery), request_body = EndpointStop, responses(
    (status = 200, body = RestingEndpoint), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn park(
    parts: Parts,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    query: web::Query<WaitQuery>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    rest(&parts, &caller, &name, &query, &body, |within| Change::Park { within }).await
}

/// `POST /manage/endpoints/{name}/start`: serves an endpoint again that was stopped or parked, or could not be started.
///
/// # Errors
/// 404 when there is no such endpoint; 409 when it is served already, has no room now, or a newer change has taken its place; 503 when it cannot
/// be started.
#[utoipa::path(post, path = "/manage/endpoints/{name}/start", operation_id = "start_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), WaitQuery), responses(
    (status = 201, body = EndpointStatus), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn start(
    parts: Parts,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    query: web::Query<WaitQuery>,
) -> Result<HttpResponse, Problem> {
    let ended = changed(&parts, &name, caller.name(), Change::Start, &query).await?;
    let (_, endpoints, ..) = &parts;
    match ended {
        Ok(()) => Ok(HttpResponse::Created().json(endpoint_status(&*endpoints.get(&name)?))),
        Err(under_way) => Ok(under_way),
    }
}

/// `DELETE /manage/endpoints/{name}`: removes an endpoint, served or not, and gives its memory back. Answers that are under way
/// are completed first. Models, records, keys and runs stay as they are; its releases, and builds that no other endpoint uses, are deleted.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(delete, path = "/manage/endpoints/{name}", operation_id = "remove_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), WaitQuery), responses(
    (status = 200, body = JobEntry), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn remove(
    parts: Parts,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    query: web::Query<WaitQuery>,
) -> Result<HttpResponse, Problem> {
    let wait = query.time()?;
    let (control, endpoints, jobs, records) = &parts;
    let accepted = control.change(&name, caller.name(), Change::Remove).await;
    let accepted = accepted.map_err(|why| refused(why, &name, endpoints))?;
    match outcome(&accepted, wait).await {
        None => under_way(jobs, records, &accepted).await,
        Some(Outcome::Reached) => {
            let removed = job_entry(jobs, records, accepted.job.number()).await?;
            Ok(HttpResponse::Ok().json(removed))
        }
        Some(other) => Err(given_up(other, &name, |failure| not_started(failure, accepted.text()))),
    }
}

/// Changes an endpoint; returns nothing where the change has reached what it wanted while the caller waited, else the answer that it is under
/// way.
///
/// # Errors
/// Why it is not under way, or has not reached what it wanted.
async fn changed(
    (control, endpoints, jobs, records): &Parts,
    name: &str,
    by: &str,
    change: Change,
    query: &WaitQuery,
) -> Result<Result<(), HttpResponse>, Problem> {
    let wait = query.time()?;
    let accepted = control.change(name, by, change).await;
    let accepted = accepted.map_err(|why| refused(why, name, endpoints))?;
    match outcome(&accepted, wait).await {
        None => Ok(Err(under_way(jobs, records, &accepted).await?)),
        Some(Outcome::Reached) => Ok(Ok(())),
        Some(other) => Err(given_up(other, name, |failure| not_started(failure, accepted.text()))),
    }
}

/// Lets an endpoint come to rest, and answers its state.
///
/// # Errors
/// As of [`changed`], and when the time for requests cannot be.
async fn rest(
    parts: &Parts,
    caller: &Caller,
    name: &str,
    query: &WaitQuery,
    body: &Body,
    change: impl FnOnce(u64) -> Change,
) -> Result<HttpResponse, Problem> {
    let EndpointStop { within } = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let change = change(limit(within)?);
    if let Err(under_way) = changed(parts, name, caller.name(), change, query).await? {
        return Ok(under_way);
    }
    let (_, endpoints, ..) = parts;
    match endpoints.resting().get_key_value(name) {
        Some(resting) => Ok(HttpResponse::Ok().json(resting_endpoint(resting))),
        // A call has started it again meanwhile.
        None => Err(Problem::conflict(
            "change_replaced",
            format!("`{name}` is served again"),
        )),
    }
}

/// Returns the time that requests have to end, in milliseconds.
fn limit(within: f64) -> Result<u64, Problem> {
    if (0.0..=MOST_WITHIN).contains(&within) {
        return Ok((within * 1_000.0).round() as u64);
    }
    let text = format!("{within} seconds do not work; use 0 to {MOST_WITHIN}");
    Err(Problem::field("within", text))
}
