//! Endpoints that come and go while the service runs: `/manage/endpoints`.

use super::status::endpoint_status;
use crate::deploy::{Loader, Order, check};
use crate::endpoint::Endpoint;
use crate::endpoints::Endpoints;
use crate::guard::Body;
use crate::problem::Problem;
use crate::records::Records;
use actix_web::{HttpResponse, web};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EndpointStatus, NewEndpoint};
use vastrelay_wire::parse::parse_body;

/// How long the answer to a removal waits for the memory to be given back.
const MEMORY_LIMIT: Duration = Duration::from_secs(2);
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
    body: Body,
) -> Result<HttpResponse, Problem> {
    let wanted: NewEndpoint = parse_body(body.order()?).map_err(|error| Problem::body(&error))?;
    let records = records.into_inner();
    let deployed = web::block(move || load(&endpoints, &loader, &records, &wanted)).await;
    let endpoint = deployed.map_err(|error| Problem::internal(error.to_string()))??;
    Ok(HttpResponse::Created().json(endpoint_status(&endpoint)))
}

fn load(
    endpoints: &Endpoints,
    loader: &Loader,
    records: &Arc<Records>,
    wanted: &NewEndpoint,
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
    Ok(loader.deploy(endpoints, records, &Order::plain(&wanted.name, &folder))?)
}

/// `DELETE /manage/endpoints/{name}`: removes an endpoint, failed or not, and gives its memory back. Answers that are under way
/// are completed first.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(delete, path = "/manage/endpoints/{name}", operation_id = "remove_endpoint", tag = "manage",
    params(("name" = String, Path, description = "The endpoint")), responses(
    (status = 200, body = EndpointStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn remove(endpoints: web::Data<Endpoints>, name: web::Path<String>) -> Result<HttpResponse, Problem> {
    let removed = endpoints.remove(&name)?;
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
