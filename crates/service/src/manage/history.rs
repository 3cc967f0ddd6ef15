//! `GET /manage/endpoints/{name}/history`.

use crate::http::problem::Problem;
use crate::http::records::Records;
use crate::telemetry::history::SPANS;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use utoipa::IntoParams;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_store::milliseconds_since_1970;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::History;

/// The query of `GET /manage/endpoints/{name}/history`.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// The last this many seconds.
    #[serde(default = "an_hour")]
    seconds: u32,
}

fn an_hour() -> u32 {
    3600
}

/// Most seconds that are looked back at in the finest points; more come in coarser ones.
const FINE: u32 = 2 * 3600;

/// `GET /manage/endpoints/{name}/history`: what an endpoint was like over the last hours.
///
/// # Errors
/// 404 for an unknown endpoint.
#[utoipa::path(get, path = "/manage/endpoints/{name}/history", tag = "manage", params(
    ("name" = String, Path, description = "The endpoint"), HistoryQuery), responses(
    (status = 200, body = History), (status = "4XX", body = ErrorEnvelope)))]
pub async fn history(
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    name: web::Path<String>,
    query: web::Query<HistoryQuery>,
) -> Result<HttpResponse, Problem> {
    // Also of one that is parked or stopped.
    endpoints.state_of(&name)?;
    let span = if query.seconds <= FINE { SPANS[0] } else { SPANS[1] };
    let from = milliseconds_since_1970() - i64::from(query.seconds) * 1000;
    let points = records.query(move |store| store.history(&name, span, from)).await?;
    Ok(HttpResponse::Ok().json(History { span, points }))
}
