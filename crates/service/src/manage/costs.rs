//! `GET /manage/endpoints/{name}/costs`.

use crate::http::problem::Problem;
use actix_web::{HttpResponse, web};
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::EndpointCosts;

/// `GET /manage/endpoints/{name}/costs`: what the settings of an endpoint cost in memory and, where its device's speed is known, in speed.
///
/// # Errors
/// 404 for an unknown endpoint, 409 when it is not served.
#[utoipa::path(get, path = "/manage/endpoints/{name}/costs", operation_id = "endpoint_costs", tag = "manage", params(
    ("name" = String, Path, description = "The endpoint")), responses(
    (status = 200, body = EndpointCosts), (status = "4XX", body = ErrorEnvelope)))]
pub async fn costs(
    endpoints: web::Data<Endpoints>,
    loader: web::Data<Loader>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let endpoint = endpoints.get(&name)?;
    // Files are read.
    let costs = web::block(move || crate::manage::setting_costs::costs(&endpoint, &loader)).await;
    let costs = costs.map_err(|error| Problem::internal(error.to_string()))?;
    Ok(HttpResponse::Ok().json(costs))
}
