//! Endpoints that come and go while the service runs: `/manage/endpoints`.

use super::status::endpoint_status;
use crate::deploy::{Loader, Order, check};
use crate::endpoint::Endpoint;
use crate::endpoints::Endpoints;
use crate::guard::{Body, Caller};
use crate::problem::Problem;
use crate::records::Records;
use actix_web::{HttpResponse, web};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EndpointStatus, EventKind, NewEndpoint, Renewal};
use vastrelay_wire::parse::parse_body;

/// How long the answer to a removal waits for the memory to be given back.
const MEMORY_LIMIT: Duration = Duration::from_secs(2);
/// Most seconds that requests may have to end where they are.
const MOST_WITHIN: f64 = 24.0 * 3600.0;
/// Time between two looks at whether a removed endpoint's answers have ended.
const LOOK_AGAIN: Duration = Duration::from_millis(20);

/// `POST /manage/endpoints`: loads a folder of weights, or the demo's own, and serves it.
///
/// # Errors
/// 400 when the folder cannot be read or run, or does not fit; 409 when the name is taken.
#[utoipa::path(post, path = "/manage/endpoints", operation_id = "deploy_endpoint", tag = "manage", request_body = NewEndpoint, responses(
    (status = 201, body = EndpointStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn deploy(
    endpoints: web::Data<Endpoints>,
    loader: web::Data<Loader>,
    records: web::Data<Records>,
    caller: web::ReqData<Caller>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let by = caller.name().to_owned();
    let wanted: NewEndpoint = parse_body(body.order()?).map_err(|error| Problem::body(&error))?;
    let records = records.into_inner();
    let deployed = web::block(move || load(&endpoints, &loader, &records, &wanted, &by)).await;
    let endpoint = deployed.map_err(|error| Problem::internal(error.to_string()))??;
    Ok(HttpResponse::Created().json(endpoint_status(&endpoint)))
}

fn load(
    endpoints: &Endpoints,
    loader: &Loader,
    records: &Arc<Records>,
    wanted: &NewEndpoint,
    by: &str,
) -> Result<Arc<Endpoint>, Problem> {
    check(endpoints, &wanted.name)?;
    let folder = match (&wanted.path, wanted.demo) {
        (Some(path), false) => PathBuf::from(path),
        (None, true) => (loader.unpack_demo)(&loader.data).map_err(Problem::internal)?,
        _ => {
            let message = "send either `path`, a folder of weights, or `demo`: true".into();
            return Err(Problem::field("path", message));
        }
    };
    Ok(loader.deploy(endpoints, records, &Order::plain(&wanted.name, &folder, by))?)
}

/// `POST /manage/endpoints/{name}/renew`: gives each replica another worker. The one it has takes no more requests; what has not ended within a
/// time goes on with the next one, and nothing is lost or said twice. New requests wait meanwhile.
///
/// # Errors
/// 400 when the time cannot be; 404 when there is no such endpoint; 409 when its replicas have no workers of their own.
#[utoipa::path(post, path = "/manage/endpoints/{name}/renew", operation_id = "renew_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint")), request_body = Renewal, responses(
    (status = 202, body = EndpointStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn renew(
    endpoints: web::Data<Endpoints>,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let Renewal { within } = parse_body(body.order()?).map_err(|error| Problem::body(&error))?;
    if !(0.0..=MOST_WITHIN).contains(&within) {
        let text = format!("{within} seconds do not work; use 0 to {MOST_WITHIN}");
        return Err(Problem::field("within", text));
    }
    let endpoint = endpoints.get(&name)?;
    if !endpoint.is_kept() {
        let text = format!("the replicas of `{}` have no workers of their own", endpoint.name);
        return Err(Problem::conflict("no_worker", text));
    }
    if let Some(log) = endpoint.log() {
        let text = format!("requests have {within} s to end where they are");
        log.done_by(caller.name(), EventKind::Renewed, text);
    }
    endpoint.renew(Duration::from_secs_f64(within));
    Ok(HttpResponse::Accepted().json(endpoint_status(&endpoint)))
}

/// `DELETE /manage/endpoints/{name}`: removes an endpoint, failed or not, and gives its memory back. Answers that are under way
/// are completed first.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(delete, path = "/manage/endpoints/{name}", operation_id = "remove_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint")), responses(
    (status = 200, body = EndpointStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn remove(
    endpoints: web::Data<Endpoints>,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let removed = endpoints.remove(&name)?;
    if let Some(log) = removed.log() {
        log.done_by(caller.name(), EventKind::Removed, "its running answers are completed");
    }
    let last = endpoint_status(&removed);
    tracing::info!(endpoint = %name, "removed");
    let held = Arc::downgrade(&removed.plan.held);
    // Ending an engine waits for its step; the threads that serve HTTP do not.
    let let_go = std::thread::Builder::new().name("remove".into());
    let spawned = let_go.spawn(move || {
        while Arc::strong_count(&removed) > 1 {
            std::thread::sleep(LOOK_AGAIN);
        }
    });
    spawned.map_err(|error| Problem::internal(error.to_string()))?;
    // Whoever deploys next finds the memory, unless answers are still under way.
    let until = Instant::now() + MEMORY_LIMIT;
    while held.strong_count() > 0 && Instant::now() < until {
        tokio::time::sleep(LOOK_AGAIN).await;
    }
    Ok(HttpResponse::Ok().json(last))
}
