//! Is it alive, and is it ready?

use crate::http::guard::{Access, caller_of};
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use crate::manage::status::condition;
use actix_web::{HttpRequest, HttpResponse, web};
use serde_json::json;
use vastrelay_fleet::State;
use vastrelay_wire::error::ErrorEnvelope;

/// `GET /health/live`: 200 while the process answers at all.
#[utoipa::path(get, path = "/health/live", tag = "manage", responses((status = 200, body = serde_json::Value)))]
pub async fn live() -> HttpResponse {
    HttpResponse::Ok().json(json!({"live": true}))
}

/// `GET /health/ready`: 200 when requests are taken: the service is not draining, and one endpoint is ready or there is
/// none yet. 503 with the reason when not. To callers who may use models, endpoints that have failed are named either way.
#[utoipa::path(get, path = "/health/ready", tag = "manage", responses((status = 200, body = serde_json::Value), (status = 503, body = serde_json::Value)))]
pub async fn ready(state: web::Data<ServiceState>, request: HttpRequest) -> HttpResponse {
    let (endpoints, service_run) = (&state.endpoints, &state.service_run);
    let all = endpoints.all();
    let condition = condition(endpoints, &all, service_run);
    let Ok(caller) = caller_of(&state, &request, Access::Use).await else {
        return answer(condition, &[]);
    };
    let failed = all.iter().filter(|endpoint| endpoint.replicas.state() == State::Failed);
    let mut failed: Vec<String> = failed.map(|endpoint| endpoint.name.clone()).collect();
    let resting = endpoints.resting().into_iter();
    failed.extend(
        resting
            .filter(|(_, resting)| resting.state == State::Failed)
            .map(|(name, _)| name),
    );
    failed.retain(|name| caller.visibility().has(name));
    answer(condition, &failed)
}

/// `GET /health/ready/{name}`: 200 when this endpoint takes requests, 503 when it does not. Callers who may not use it are not told
/// why, nor whether there is such an endpoint: their 503 is empty.
///
/// # Errors
/// 404 when there is no such endpoint, for callers who may use models.
#[utoipa::path(get, path = "/health/ready/{name}", tag = "manage", params(("name" = String, Path, description = "The endpoint")),
    responses((status = 200, body = serde_json::Value), (status = "4XX", body = ErrorEnvelope), (status = 503, body = serde_json::Value)))]
pub async fn endpoint_ready(
    state: web::Data<ServiceState>,
    request: HttpRequest,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let found = state.endpoints.state_of(&name);
    let serves = |found: State| found.serves() && !state.service_run.is_draining();
    let Ok(caller) = caller_of(&state, &request, Access::Use).await else {
        return Ok(match found.is_ok_and(serves) {
            true => HttpResponse::Ok().json(json!({"ready": true})),
            false => HttpResponse::ServiceUnavailable().finish(),
        });
    };
    let visibility = caller.visibility();
    if !visibility.has(&name) {
        let text = "this key knows of no such endpoint; GET /v1/models lists those that it may call";
        return Err(Problem::not_kept(text.into()));
    }
    let draining = state.service_run.is_draining();
    Ok(answer(if draining { State::Draining } else { found? }, &[]))
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
