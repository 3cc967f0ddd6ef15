//! `GET /metrics`.

use crate::http::guard::Caller;
use crate::http::problem::Problem;
use crate::telemetry::metrics::Metrics;
use actix_web::{HttpResponse, web};
use prometheus_client::encoding::text;

/// `GET /metrics`: everything that is counted, in the text format of OpenMetrics.
///
/// # Errors
/// 403 for a key that is good for some endpoints only; 500 when it cannot be written.
#[utoipa::path(get, path = "/metrics", tag = "manage", responses(
    (status = 200, description = "OpenMetrics text", body = String, content_type = "application/openmetrics-text")))]
pub async fn metrics(metrics: web::Data<Metrics>, caller: web::ReqData<Caller>) -> Result<HttpResponse, Problem> {
    if caller.visibility().is_limited() {
        return Err(Problem::key_limited(caller.name()));
    }
    let mut body = String::new();
    text::encode(&mut body, &metrics.registry).map_err(|e| Problem::internal(e.to_string()))?;
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(body))
}
