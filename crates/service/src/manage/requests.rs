//! Recorded calls: `/manage/requests`.

use crate::http::problem::Problem;
use crate::http::recorded::{moves_of, recorded};
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;
use vastrelay_store::{CallFilter, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::requests::outcome;
use vastrelay_wire::manage::{CallDetail, CallText, RecordedCall};

/// Most calls of a listing.
const MOST_LISTED: usize = 10_000;

/// What `GET /manage/requests` is asked: all conditions have to hold.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RequestsQuery {
    /// The newest, at most this many.
    #[serde(default = "most_requests")]
    most: usize,
    /// Only calls to this endpoint.
    endpoint: Option<String>,
    /// Only calls that ended so, such as `length` or `queue_full`.
    outcome: Option<String>,
    /// Only calls with the key of this name.
    caller: Option<String>,
    /// Only calls that failed or were refused, or only others.
    failed: Option<bool>,
    /// Only calls of the last seconds, this many.
    within: Option<f64>,
    /// Only calls that arrived before this moment, in milliseconds since 1970.
    before_ms: Option<i64>,
    /// Only calls that took at least this many seconds to the first token.
    least_ttft: Option<f64>,
    /// Only calls that took at least this many seconds to the end.
    least_total: Option<f64>,
}

fn most_requests() -> usize {
    20
}

/// `GET /manage/requests`: the last calls, newest first.
///
/// # Errors
/// 400 for an outcome that neither this version nor any record knows; 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/requests", tag = "manage", params(RequestsQuery), responses(
    (status = 200, body = Vec<RecordedCall>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn requests(records: web::Data<Records>, query: web::Query<RequestsQuery>) -> Result<HttpResponse, Problem> {
    let (now, query) = (milliseconds_since_1970(), query.into_inner());
    let known = query.outcome.as_deref().map(outcome).transpose();
    let filter = CallFilter {
        endpoint: query.endpoint,
        outcome: known.clone().ok().flatten().map(str::to_owned).or(query.outcome),
        caller: query.caller,
        failed: query.failed,
        from_ms: query
            .within
            .map(|seconds| now.saturating_sub((seconds * 1000.0) as i64)),
        before_ms: query.before_ms,
        least_ttft: query.least_ttft,
        least_total: query.least_total,
    };
    let most = query.most.min(MOST_LISTED);
    let calls = records
        .query(move |store| {
            store.flush();
            store.calls(&filter, most)
        })
        .await?;
    // An earlier version may have recorded an outcome that this one does not know.
    if let Some(text) = known.err().filter(|_| calls.is_empty()) {
        return Err(Problem::field("outcome", text));
    }
    Ok(HttpResponse::Ok().json(calls.into_iter().map(|call| recorded(call, now)).collect::<Vec<_>>()))
}

/// `GET /manage/requests/{id}`: the call whose id begins so, or the only one whose caller gave this id, whole.
///
/// # Errors
/// 404 when there is none.
#[utoipa::path(get, path = "/manage/requests/{id}", tag = "manage",
    params(("id" = String, Path, description = "The request id, or its beginning")), responses(
    (status = 200, body = CallDetail), (status = "4XX", body = ErrorEnvelope)))]
pub async fn request(records: web::Data<Records>, id: web::Path<String>) -> Result<HttpResponse, Problem> {
    let wanted = id.clone();
    let call = records
        .query(move |store| {
            store.flush();
            store.call(&wanted)
        })
        .await?;
    let mut call = call.ok_or_else(|| {
        Problem::not_kept(format!(
            "there is no request whose id begins with `{id}`; GET /manage/requests lists recent requests"
        ))
    })?;
    let text = call.text.take().map(|text| CallText {
        prompt: text.prompt,
        answer: text.answer,
    });
    Ok(HttpResponse::Ok().json(CallDetail {
        parameters: serde_json::from_str(&call.parameters).unwrap_or(Value::Null),
        gaps: call.gaps.iter().map(|gap| f64::from(*gap) / 1e6).collect(),
        moves: moves_of(&call),
        text,
        call: recorded(call, milliseconds_since_1970()),
    }))
}
