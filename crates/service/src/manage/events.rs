//! The events of endpoints: `/manage/events`.

use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use utoipa::IntoParams;
use vastrelay_store::{EventFilter, EventRecord, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EndpointEvent, EventKind};

/// Most events of a listing.
const MOST_LISTED: usize = 10_000;

/// What `GET /manage/events` is asked: all conditions have to hold.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct EventsQuery {
    /// The newest, at most this many.
    #[serde(default = "usual_events")]
    most: usize,
    /// Only events of this endpoint.
    endpoint: Option<String>,
    /// Only events of this kind, such as `worker_gone`.
    what: Option<String>,
    /// Only events of the last seconds, this many.
    within: Option<f64>,
    /// Only events with a higher number.
    #[serde(default)]
    after: i64,
}

fn usual_events() -> usize {
    20
}

/// `GET /manage/events`: what happened to endpoints, newest first.
///
/// # Errors
/// 400 when there is no such kind of event, 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/events", tag = "manage", params(EventsQuery), responses(
    (status = 200, body = Vec<EndpointEvent>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn events(records: web::Data<Records>, query: web::Query<EventsQuery>) -> Result<HttpResponse, Problem> {
    let (now, query) = (milliseconds_since_1970(), query.into_inner());
    if let Some(what) = query.what.as_deref().filter(|what| EventKind::of(what).is_none()) {
        let names = EventKind::ALL.map(EventKind::name).join(", ");
        let shown: String = what.chars().take(40).collect();
        let text = format!("`{}` is no kind of event; use one of {names}", shown.escape_debug());
        return Err(Problem::field("what", text));
    }
    let filter = EventFilter {
        endpoint: query.endpoint,
        what: query.what,
        from_ms: query
            .within
            .map(|seconds| now.saturating_sub((seconds * 1000.0) as i64)),
        after: query.after,
    };
    let most = query.most.min(MOST_LISTED);
    let events = records
        .query(move |store| {
            store.flush();
            store.events(&filter, most)
        })
        .await?;
    let told = |event: EventRecord| EndpointEvent {
        number: event.number,
        at_ms: event.at_ms,
        seconds_ago: now.saturating_sub(event.at_ms) as f64 / 1000.0,
        endpoint: event.endpoint,
        release: event.release,
        replica: event.replica,
        what: event.what,
        who: event.who,
        why: event.why,
    };
    Ok(HttpResponse::Ok().json(events.into_iter().map(told).collect::<Vec<_>>()))
}
