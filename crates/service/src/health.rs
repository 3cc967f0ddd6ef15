//! Is it alive, and is it ready?

use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use serde_json::json;

/// `GET /health/live`: 200 while the process answers at all.
#[utoipa::path(get, path = "/health/live", tag = "manage", responses((status = 200, body = serde_json::Value)))]
pub async fn live() -> HttpResponse {
    HttpResponse::Ok().json(json!({"live": true}))
}

/// `GET /health/ready`: 200 when requests are taken, 503 with the reason when not.
#[utoipa::path(get, path = "/health/ready", tag = "manage", responses((status = 200, body = serde_json::Value), (status = 503, body = serde_json::Value)))]
pub async fn ready(state: web::Data<ServiceState>) -> HttpResponse {
    match state.condition() {
        "ready" => HttpResponse::Ok().json(json!({"ready": true, "state": "ready"})),
        other => HttpResponse::ServiceUnavailable().json(json!({"ready": false, "state": other})),
    }
}
