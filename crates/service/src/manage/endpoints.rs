//! Endpoints that come and go while the service runs: `/manage/endpoints`.

use super::change::{WaitQuery, given_up, job_entry, not_deployed, not_started, outcome, refused, under_way};
use super::status::{endpoint_status, resting_endpoint};
use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use utoipa::IntoParams;
use vastrelay_control::control_loop::{Change, Control, Make, SpecText};
use vastrelay_control::deployments::request::DeployRequest;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::name::check_name;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::jobs::Jobs;
use vastrelay_control::placement::loader::Loader;
use vastrelay_fleet::decider::{Failure, Outcome, Refused};
use vastrelay_fleet::difference::{Difference, differences};
use vastrelay_store::{Granted, ReleaseEntry, StartRecord, StoredEndpoint, StoredState, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{
    ColdStart, EndpointCheck, EndpointDetail, EndpointRelease, EndpointStatus, EndpointStop, EndpointUser, JobEntry,
    LogLine, NewEndpoint, Renewal, RestingEndpoint, SpecDifference,
};
use vastrelay_wire::parse::parse_body;

/// Most seconds that requests may have to end.
const MOST_WITHIN: f64 = 24.0 * 3600.0;

/// How long files are looked at before the answer; the rest is the job's.
const OPENING: Duration = Duration::from_secs(2);

/// The parts that handlers of changes use.
type Parts = (
    web::Data<Control>,
    web::Data<Endpoints>,
    web::Data<Jobs>,
    web::Data<Records>,
);

/// `POST /manage/endpoints`: serves what a spec describes, a folder of weights, the demo's own, or an earlier release. The old
/// release of that name stays until the new release takes requests, and completes its calls. A newer change replaces one that is under way.
///
/// # Errors
/// 400 when the spec or the folder cannot be read or run, or does not fit; 409 when another release is served than `from_release`, when a
/// newer change has taken its place, and when there is no room for both releases and `with_pause` is not set; 503 when its worker does not
/// start.
#[utoipa::path(post, path = "/manage/endpoints", operation_id = "deploy_endpoint", tag = "manage", params(WaitQuery),
    request_body = NewEndpoint, responses(
    (status = 201, body = EndpointStatus), (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn deploy(
    (control, endpoints, jobs, records): Parts,
    loader: web::Data<Loader>,
    caller: web::ReqData<Caller>,
    query: web::Query<WaitQuery>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let wait = query.time()?;
    let wanted: NewEndpoint = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    check_name(&wanted.name).map_err(|text| Problem::field("name", text))?;
    let caller = caller.into_inner();
    let by = caller.name().to_owned();
    let kept = records.clone();
    let named = loader.clone();
    let (wanted, request) = on_thread(move || {
        let request = request(&named, &kept, &wanted, &caller)?;
        Ok((wanted, request))
    })
    .await?;
    let (name, is_served) = (&wanted.name, endpoints.get(&wanted.name).is_ok());
    let (opener, opened) = (loader.clone(), request.clone());
    // Its job opens the files again, which are known by then.
    let opening = web::block(move || {
        let request = opened;
        let opened = opener.open(&request);
        let options = opened.and_then(|opened| opener.find_options(&request, &opened, Make::Later));
        options.map(drop).map_err(|error| error.failure())
    });
    if let Ok(opened) = tokio::time::timeout(OPENING, opening).await {
        let opened = opened.map_err(|error| Problem::internal(error.to_string()))?;
        opened.map_err(|failure| refusal(&failure, &request))?;
    }
    let change = Change::Deploy {
        spec: SpecText::of(&request),
        from_release: wanted.from_release,
        with_pause: wanted.with_pause,
    };
    let accepted = match (control.change(name, &by, change).await, wanted.from_release) {
        (Err(Refused::Stale { now }), Some(from)) => {
            return Err(stale(records.into_inner(), name.clone(), from, now).await);
        }
        (accepted, _) => accepted.map_err(|why| refused(why, name, &endpoints))?,
    };
    match outcome(&accepted, wait).await {
        None => under_way(&jobs, &records, &accepted).await,
        Some(Outcome::Reached) => Ok(HttpResponse::Created().json(endpoint_status(&*endpoints.get(name)?))),
        Some(other) => Err(given_up(other, name, |failure| {
            not_deployed(failure, accepted.text(), is_served)
        })),
    }
}

/// Returns why an order cannot be served, with the place in the spec if a caller wrote one.
fn refusal(failure: &Failure, request: &DeployRequest) -> Problem {
    let text = request.refused(failure).map_or_else(
        || format!("`{}` cannot be served: {}", request.name, failure.why),
        |refused| refused.to_string(),
    );
    not_deployed(failure, text, false)
}

/// Returns that another release is served than the one that a change began from, with what is different.
async fn stale(records: Arc<Records>, name: String, from: u32, now: u32) -> Problem {
    let text = format!(
        "`{name}` is served as release {now}, not {from}: it changed since you read it; read it again, then deploy"
    );
    let overtaken = on_thread(move || Ok(overtaken(&records, &name, from, now))).await;
    Problem::conflict("release_changed", text).with_detail(&overtaken.unwrap_or_default())
}

/// `POST /manage/check`: how a spec, a folder of weights, the demo's own, or an earlier release would be served. Nothing is changed by it.
///
/// # Errors
/// 400 when it could not be served.
#[utoipa::path(post, path = "/manage/check", operation_id = "check_endpoint", tag = "manage", request_body = NewEndpoint, responses(
    (status = 200, body = EndpointCheck), (status = "4XX", body = ErrorEnvelope)))]
pub async fn check(
    endpoints: web::Data<Endpoints>,
    loader: web::Data<Loader>,
    records: web::Data<Records>,
    caller: web::ReqData<Caller>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let caller = caller.into_inner();
    let wanted: NewEndpoint = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let checked = on_thread(move || {
        let request = request(&loader, &records, &wanted, &caller)?;
        let (kept, starts) = before(&records, &wanted.name)?;
        check_name(&request.name).map_err(|text| Problem::field("name", text))?;
        let checked = loader.check(&endpoints, &request);
        let checked = checked.map_err(|failure| refusal(&failure, &request))?;
        let (planned, why) = match &checked.plan {
            Ok(endpoint) => (Some(endpoint_status(endpoint)), None),
            Err(why) => (None, Some(why.clone())),
        };
        Ok(EndpointCheck {
            served: checked.served,
            is_change: checked.is_change,
            at_once: checked.is_change && checked.at_once,
            needs_pause: planned.is_none() && checked.is_change,
            why,
            planned,
            differences: kept.map_or_else(Vec::new, |kept| spec_differences(&kept.spec, &request.text)),
            typical_sequences: checked.typical,
            usual_start: usual_start(&starts),
        })
    });
    Ok(HttpResponse::Ok().json(checked.await?))
}

/// Returns what is kept of an endpoint, and how long its starts took.
fn before(records: &Records, name: &str) -> Result<(Option<StoredEndpoint>, Vec<StartRecord>), Problem> {
    let kept = records.store.stored_endpoint(name);
    let both = kept.and_then(|kept| Ok((kept, records.store.starts(name)?)));
    both.map_err(|error| Problem::internal(error.to_string()))
}

/// Returns what is different between two specs.
fn spec_differences(was: &str, is: &str) -> Vec<SpecDifference> {
    let differences = differences(was, is).into_iter();
    differences
        .map(|Difference { key, was, is }| SpecDifference { key, was, is })
        .collect()
}

/// Says what somebody else has changed between two releases.
fn overtaken(records: &Records, name: &str, from: u32, now: u32) -> String {
    let releases = records.store.releases(name).unwrap_or_default();
    let spec = |release: u32| releases.iter().find(|entry| entry.release == release);
    let (Some(was), Some(is)) = (spec(from), spec(now)) else {
        return String::new();
    };
    let shown = |value: &Option<String>| value.clone().unwrap_or_else(|| "not said".into());
    let differences = differences(&was.spec, &is.spec);
    let told = differences
        .iter()
        .map(|one| format!("`{}` was {} and is {}", one.key, shown(&one.was), shown(&one.is)));
    let told: Vec<String> = told.collect();
    if told.is_empty() {
        return String::new();
    }
    format!("; meanwhile {}", told.join(", "))
}

/// Returns how long starts took that succeeded, at the median.
fn usual_start(starts: &[StartRecord]) -> Option<f64> {
    let succeeded = starts.iter().filter(|start| start.failure.is_none());
    let mut seconds: Vec<f64> = succeeded.map(|start| start.seconds).collect();
    seconds.sort_by(f64::total_cmp);
    seconds.get(seconds.len() / 2).copied()
}

/// Returns the order that a caller describes in one of four ways, with the files that this caller may name.
fn request(
    loader: &Loader,
    records: &Records,
    wanted: &NewEndpoint,
    caller: &Caller,
) -> Result<DeployRequest, Problem> {
    let request = requested(loader, records, wanted, caller.name())?;
    // The demo's files are our own, and an earlier release has what was granted to it.
    if caller.is_operator() || wanted.demo || wanted.release.is_some() {
        return Ok(request);
    }
    let kept = records.store.stored_endpoint(&wanted.name);
    let kept = kept.map_err(|error| Problem::internal(error.to_string()))?;
    let kept = kept.and_then(|kept| DeployRequest::of_kept(&kept, "").ok());
    // Files that the service's own user named stay allowed; all others lie beneath a root.
    let granted = kept.map_or_else(Vec::new, |kept| kept.granted_files());
    Ok(request.with(Granted::Only(granted)))
}

fn requested(loader: &Loader, records: &Records, wanted: &NewEndpoint, by: &str) -> Result<DeployRequest, Problem> {
    let name = &wanted.name;
    match (&wanted.path, wanted.demo, &wanted.spec, wanted.release) {
        (Some(path), false, None, None) if path.is_empty() => {
            let text = "write the path of a folder or a GGUF file on the service's machine";
            Err(Problem::field("path", text.into()))
        }
        (Some(path), false, None, None) => Ok(DeployRequest::plain(name, Path::new(path), by)),
        (None, true, None, None) => {
            let folder = (loader.unpack_demo)(&loader.data).map_err(Problem::internal)?;
            Ok(DeployRequest::plain(name, &folder, by))
        }
        (None, false, Some(spec), None) => {
            let beside = PathBuf::from(wanted.beside.clone().unwrap_or_default());
            let request = DeployRequest::of_spec(name, spec, &beside, by);
            request.map_err(|error| Problem::field("spec", error.to_string()))
        }
        (None, false, None, Some(release)) => earlier(records, name, release, by),
        _ => Err(Problem::field(
            "spec",
            "send one of `spec`, a TOML text; `path`, a folder of weights; `demo`: true; and `release`, an earlier one"
                .into(),
        )),
    }
}

/// Returns the order of an earlier release.
fn earlier(records: &Records, name: &str, release: u32, by: &str) -> Result<DeployRequest, Problem> {
    let releases = records.store.releases(name);
    let releases = releases.map_err(|error| Problem::internal(error.to_string()))?;
    let found = releases
        .iter()
        .find(|entry| entry.release == release && !entry.spec.is_empty());
    let Some(ReleaseEntry {
        spec, beside, granted, ..
    }) = found
    else {
        let known: Vec<String> = releases.iter().map(|entry| entry.release.to_string()).collect();
        let known = if known.is_empty() {
            "none".into()
        } else {
            known.join(", ")
        };
        let text = format!("`{name}` has no release {release} whose spec is kept; its releases: {known}");
        return Err(Problem::field("release", text));
    };
    let kept = StoredEndpoint {
        name: name.to_owned(),
        spec: spec.clone(),
        beside: beside.clone(),
        state: StoredState::Served,
        granted: granted.clone(),
        release,
    };
    DeployRequest::of_kept(&kept, by).map_err(|error| Problem::field("release", error.to_string()))
}

/// `GET /manage/endpoints/{name}`: what an endpoint is to be, its releases, and how it stands.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(get, path = "/manage/endpoints/{name}", operation_id = "endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint")), responses(
    (status = 200, body = EndpointDetail), (status = "4XX", body = ErrorEnvelope)))]
pub async fn detail(
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let state = endpoints.state_of(&name)?;
    let wanted = name.clone();
    let (kept, releases, starts) = records
        .query(move |store| {
            let (kept, releases) = (store.stored_endpoint(&wanted)?, store.releases(&wanted)?);
            Ok((kept, releases, store.starts(&wanted)?))
        })
        .await?;
    let served = endpoints.get(&name).ok();
    let now = milliseconds_since_1970();
    let kept = kept.unwrap_or_default();
    let release = |entry: &ReleaseEntry| EndpointRelease {
        release: entry.release,
        seconds_ago: now.saturating_sub(entry.at_ms) as f64 / 1000.0,
        is_served: served
            .as_ref()
            .is_some_and(|endpoint| endpoint.release == entry.release),
    };
    Ok(HttpResponse::Ok().json(EndpointDetail {
        state: state.name().into(),
        why: endpoints.resting().remove(name.as_str()).map(|resting| resting.why),
        spec: kept.spec,
        beside: kept.beside,
        releases: releases.iter().map(release).collect(),
        status: served.as_ref().map(|endpoint| endpoint_status(endpoint)),
        coming: endpoints.coming(&name).map(|endpoint| endpoint_status(&endpoint)),
        starts: starts.into_iter().map(|start| cold_start(start, now)).collect(),
        users: served.as_ref().map(|endpoint| users(endpoint)).unwrap_or_default(),
        name: name.into_inner(),
    }))
}

/// Returns who uses the replicas of an endpoint.
fn users(endpoint: &Endpoint) -> Vec<EndpointUser> {
    let holders = endpoint.replicas.leases().holders().into_iter();
    let user = |(holder, time): (String, Duration)| EndpointUser {
        holder,
        seconds: time.as_secs_f64(),
    };
    holders.map(user).collect()
}

/// The query of `GET /manage/endpoints/{name}/log`.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct LogQuery {
    /// The last lines, at most this many.
    #[serde(default = "usual_lines")]
    most: usize,
}

fn usual_lines() -> usize {
    200
}

/// `GET /manage/endpoints/{name}/log`: what its workers have said last, oldest first.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(get, path = "/manage/endpoints/{name}/log", operation_id = "endpoint_log", tag = "manage",
    params(("name" = String, Path, description = "The endpoint"), LogQuery), responses(
    (status = 200, body = Vec<LogLine>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn log(
    endpoints: web::Data<Endpoints>,
    name: web::Path<String>,
    query: web::Query<LogQuery>,
) -> Result<HttpResponse, Problem> {
    endpoints.state_of(&name)?;
    Ok(HttpResponse::Ok().json(endpoints.worker_log(&name).last(query.most)))
}

fn cold_start(start: StartRecord, now: i64) -> ColdStart {
    ColdStart {
        seconds_ago: now.saturating_sub(start.at_ms) as f64 / 1000.0,
        release: start.release,
        replica: start.replica,
        incarnation: start.incarnation,
        seconds: start.seconds,
        // What this version does not understand is shown as a start without phases.
        phases: serde_json::from_str(&start.phases).unwrap_or_default(),
        failure: start.failure,
    }
}

/// `POST /manage/endpoints/{name}/renew`: gives each replica another worker. The one it has takes no more requests; what has not ended within a
/// time goes on with the next one, and nothing is lost or said twice. New requests wait meanwhile.
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

/// `POST /manage/endpoints/{name}/stop`: stops serving an endpoint. New calls get 503 `endpoint_stopped` until somebody starts it; those that
/// run have a time to end, and end with an error then. What it is to be is kept.
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
    let EndpointStop { within } = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let change = Change::Stop { within: limit(within)? };
    let ended = changed(&parts, &name, caller.name(), change, &query).await?;
    ended.map_or_else(Ok, |()| rests(&parts, &name))
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
    let EndpointStop { within } = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let change = Change::Park { within: limit(within)? };
    let ended = changed(&parts, &name, caller.name(), change, &query).await?;
    ended.map_or_else(Ok, |()| rests(&parts, &name))
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

/// Answers how an endpoint stands that is not served any more.
fn rests((_, endpoints, ..): &Parts, name: &str) -> Result<HttpResponse, Problem> {
    let resting = endpoints.resting();
    match resting.get_key_value(name) {
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

/// Does something that takes long on a thread that serves nobody.
async fn on_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
) -> Result<T, Problem> {
    let done = web::block(work).await;
    done.map_err(|error| Problem::internal(error.to_string()))?
}
