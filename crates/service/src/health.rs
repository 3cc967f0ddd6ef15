//! Is it alive, and is it ready?

use crate::problem::Problem;
use crate::served::has_failed;
use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use serde_json::json;
use vastrelay_wire::error::ErrorEnvelope;

/// `GET /health/live`: 200 while the process answers at all.
#[utoipa::path(get, path = "/health/live", tag = "manage", responses((status = 200, body = serde_json::Value)))]
pub async fn live() -> HttpResponse {
    HttpResponse::Ok().json(json!({"live": true}))
}

/// `GET /health/ready`: 200 when requests are taken: the service is not draining, and one model is ready or none is served
/// yet. 503 with the reason when not. Models that have failed are named either way.
#[utoipa::path(get, path = "/health/ready", tag = "manage", responses((status = 200, body = serde_json::Value), (status = 503, body = serde_json::Value)))]
pub async fn ready(state: web::Data<ServiceState>) -> HttpResponse {
    let condition = state.condition();
    let failed = state.models().into_iter().filter(|model| has_failed(model));
    let failed: Vec<String> = failed.map(|model| model.name.clone()).collect();
    answer(["ready", "degraded"].contains(&condition), condition, &failed)
}

/// `GET /health/ready/{name}`: 200 when this model takes requests, 503 when it does not.
///
/// # Errors
/// 404 when there is no such model.
#[utoipa::path(get, path = "/health/ready/{name}", tag = "manage", params(("name" = String, Path, description = "The model")),
    responses((status = 200, body = serde_json::Value), (status = "4XX", body = ErrorEnvelope), (status = 503, body = serde_json::Value)))]
pub async fn model_ready(state: web::Data<ServiceState>, name: web::Path<String>) -> Result<HttpResponse, Problem> {
    let failed = has_failed(&*state.model(&name)?);
    let condition = match (state.is_draining(), failed) {
        (true, _) => "draining",
        (false, true) => "failed",
        (false, false) => "ready",
    };
    Ok(answer(condition == "ready", condition, &[]))
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
