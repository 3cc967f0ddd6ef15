//! Is it alive, and is it ready?

use crate::endpoints::Endpoints;
use crate::life::Life;
use crate::manage::status::condition;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use serde_json::json;
use vastrelay_fleet::State;
use vastrelay_wire::error::ErrorEnvelope;

/// `GET /health/live`: 200 while the process answers at all.
#[utoipa::path(get, path = "/health/live", tag = "manage", responses((status = 200, body = serde_json::Value)))]
pub async fn live() -> HttpResponse {
    HttpResponse::Ok().json(json!({"live": true}))
}

/// `GET /health/ready`: 200 when requests are taken: the service is not draining, and one endpoint is ready or there is
/// none yet. 503 with the reason when not. Endpoints that have failed are named either way.
#[utoipa::path(get, path = "/health/ready", tag = "manage", responses((status = 200, body = serde_json::Value), (status = 503, body = serde_json::Value)))]
pub async fn ready(endpoints: web::Data<Endpoints>, life: web::Data<Life>) -> HttpResponse {
    let all = endpoints.all();
    let condition = condition(&endpoints, &all, &life);
    let failed = all.iter().filter(|endpoint| endpoint.crew.state() == State::Failed);
    let mut failed: Vec<String> = failed.map(|endpoint| endpoint.name.clone()).collect();
    let resting = endpoints.resting().into_iter();
    failed.extend(
        resting
            .filter(|(_, resting)| resting.state == State::Failed)
            .map(|(name, _)| name),
    );
    answer(condition, &failed)
}

/// `GET /health/ready/{name}`: 200 when this endpoint takes requests, 503 when it does not.
///
/// # Errors
/// 404 when there is no such endpoint.
#[utoipa::path(get, path = "/health/ready/{name}", tag = "manage", params(("name" = String, Path, description = "The endpoint")),
    responses((status = 200, body = serde_json::Value), (status = "4XX", body = ErrorEnvelope), (status = 503, body = serde_json::Value)))]
pub async fn endpoint_ready(
    endpoints: web::Data<Endpoints>,
    life: web::Data<Life>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let state = endpoints.state_of(&name)?;
    let condition = if life.is_draining() { State::Draining } else { state };
    Ok(answer(condition, &[]))
}

fn answer(condition: State, failed: &[String]) -> HttpResponse {
    let mut body = json!({"ready": condition.serves(), "state": condition.name()});
    if !failed.is_empty() {
        body["failed"] = failed.into();
    }
    match condition.serves() {
        true => HttpResponse::Ok().json(body),
        false => HttpResponse::ServiceUnavailable().json(body),
    }
}
