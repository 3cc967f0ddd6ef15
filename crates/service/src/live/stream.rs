//! `GET /manage/live`.

use super::{Live, frame};
use crate::endpoints::Endpoints;
use crate::life::Life;
use crate::manage::status::service_status;
use crate::problem::Problem;
use crate::records::Records;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};
use tokio::sync::broadcast::error::RecvError;

/// `GET /manage/live`: server-sent events. `status` tells how everything stands, at first and four times a second; `steps`
/// the steps of a replica since the last time; `call` each call that has ended; `load` how a load test gets on.
#[utoipa::path(get, path = "/manage/live", operation_id = "live_events", tag = "manage", responses(
    (status = 200, description = "Server-sent events: `status`, `steps`, `call`, `load`", body = String, content_type = "text/event-stream")))]
pub async fn live(
    live: web::Data<Live>,
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    life: web::Data<Life>,
) -> HttpResponse {
    let mut frames = live.frames.subscribe();
    let first = frame("status", &service_status(&endpoints, &records, &life));
    let events = async_stream::stream! {
        yield Ok::<_, Problem>(first);
        loop {
            match frames.recv().await {
                Ok(frame) => yield Ok(frame),
                Err(RecvError::Lagged(missed)) => yield Ok(format!(": {missed} events were missed\n\n").into()),
                Err(RecvError::Closed) => return,
            }
        }
    };
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .streaming(events)
}
