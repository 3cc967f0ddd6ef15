//! `GET /manage/live`.

use crate::http::guard::{Caller, check_again};
use crate::http::problem::Problem;
use crate::http::records::Records;
use crate::http::state::ServiceState;
use crate::lifecycle::run::ServiceRun;
use crate::manage::status::service_status;
use crate::telemetry::live::{Live, frame};
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::{HttpResponse, web};
use std::time::{Duration, Instant};
use tokio::sync::broadcast::error::RecvError;
use vastrelay_control::endpoints::registry::Endpoints;

/// How often a reader's key or session is looked up again; there are frames four times a second.
const CHECKED_EVERY: Duration = Duration::from_secs(1);

/// `GET /manage/live`: server-sent events. `status` tells how everything stands, at first and four times a second; `steps`
/// the steps of a replica since the last time; `call` each call that has ended; `load` how a load test gets on. The stream ends with the reader's key or session.
#[utoipa::path(get, path = "/manage/live", operation_id = "live_events", tag = "manage", responses(
    (status = 200, description = "Server-sent events: `status`, `steps`, `call`, `load`", body = String, content_type = "text/event-stream")))]
pub async fn live(
    live: web::Data<Live>,
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    service_run: web::Data<ServiceRun>,
    state: web::Data<ServiceState>,
    caller: web::ReqData<Caller>,
) -> HttpResponse {
    let mut frames = live.frames.subscribe();
    let first = frame("status", &service_status(&endpoints, &records, &service_run));
    let events = async_stream::stream! {
        yield Ok::<_, Problem>(first);
        let mut checked = Instant::now();
        loop {
            match frames.recv().await {
                Ok(frame) => yield Ok(frame),
                Err(RecvError::Lagged(missed)) => yield Ok(format!(": {missed} events were missed\n\n").into()),
                Err(RecvError::Closed) => return,
            }
            if checked.elapsed() >= CHECKED_EVERY {
                checked = Instant::now();
                // The next call of this caller says why.
                if check_again(&state, &caller).await.is_err() {
                    return;
                }
            }
        }
    };
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .streaming(events)
}
