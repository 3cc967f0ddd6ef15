//! Deployments, and what one would change: `POST /manage/endpoints` and `/manage/check`.

use super::change::{Parts, WaitQuery, given_up, not_deployed, outcome, refused, under_way};
use super::status::endpoint_status;
use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use vastrelay_control::control_loop::{Change, Make, SpecText};
use vastrelay_control::deployments::request::DeployRequest;
use vastrelay_control::endpoints::name::check_name;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_fleet::decider::{Failure, Outcome, Refused};
use vastrelay_fleet::difference::{Difference, differences};
use vastrelay_store::{Granted, ReleaseEntry, StartRecord, StoredEndpoint, StoredState};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EndpointCheck, EndpointStatus, JobEntry, NewEndpoint, SpecDifference};
use vastrelay_wire::parse::parse_body;

use crate::http::blocking::on_thread;

/// How long files are looked at before the answer; the rest is the job's.
const OPENING: Duration = Duration::from_secs(2);

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

/// Returns why a request cannot be served, with the place in the spec if a caller wrote one.
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

/// Returns the changes between two releases, as a sentence.
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

/// Returns how long starts of workers took that succeeded, at the median; conversions are no starts.
fn usual_start(starts: &[StartRecord]) -> Option<f64> {
    let succeeded = starts
        .iter()
        .filter(|start| start.failure.is_none() && start.replica > 0);
    let mut seconds: Vec<f64> = succeeded.map(|start| start.seconds).collect();
    seconds.sort_by(f64::total_cmp);
    seconds.get(seconds.len() / 2).copied()
}

/// Returns the deploy request that a caller describes in one of four ways, with the files that this caller may name.
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
