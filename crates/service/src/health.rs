//! Is it alive, and is it ready?

use crate::endpoints::Endpoints;
use crate::life::Life;
use crate::manage::status::condition;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use serde_json::json;
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
    let failed = all.iter().filter(|endpoint| endpoint.state() == "failed");
    let failed: Vec<String> = failed.map(|endpoint| endpoint.name.clone()).collect();
    answer(is_ready(condition), condition, &failed)
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
    let state = endpoints.get(&name)?.state();
    let condition = if life.is_draining() { "draining" } else { state };
    Ok(answer(is_ready(condition), condition, &[]))
}

fn is_ready(state: &str) -> bool {
    ["ready", "degraded"].contains(&state)
}

fn answer(ready: bool, condition: &str, failed: &[String]) -> HttpResponse {
    let mut body = json!({"ready": ready, "state": condition});
    if !failed.is_empty() {
        body["failed"] = failed.into();
    }
    match ready {
        true => HttpResponse::Ok().json(body),
        false => HttpResponse::ServiceUnavailable().json(body),
    }
}
