//! `GET /manage/devices`.

use crate::telemetry::devices::device_statuses;
use actix_web::{HttpResponse, web};
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_wire::manage::DeviceStatus;

/// `GET /manage/devices`: what is on each device, by owner.
#[utoipa::path(get, path = "/manage/devices", tag = "manage", responses((status = 200, body = Vec<DeviceStatus>)))]
pub async fn devices(endpoints: web::Data<Endpoints>, loader: web::Data<Loader>) -> HttpResponse {
    HttpResponse::Ok().json(device_statuses(&endpoints, &loader))
}
