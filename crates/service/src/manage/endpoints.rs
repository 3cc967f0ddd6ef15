//! One endpoint: its spec, its state, and the output of its workers.

use super::status::endpoint_status;
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_store::{ReleaseEntry, StartRecord, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{ColdStart, EndpointDetail, EndpointRelease, EndpointUser, LogLine};

/// `GET /manage/endpoints/{name}`: an endpoint's spec, its releases, and its state.
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
