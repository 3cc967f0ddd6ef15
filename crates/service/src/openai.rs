//! The OpenAI wire: requests are parsed, checked, answered or streamed, and handed to another worker when theirs is gone.
//!
//! Text-only addresses belong in [`text`](crate::text).

mod address;
mod answer;
mod asked;
mod call;
mod chat;
mod completion;
mod conversation;
mod events;
mod failover;
mod frames;
mod ignored;
mod options;
mod piece;
mod plain_logprobs;
mod respond;
mod shape;
mod wrong_body;

pub use address::{wrong_address, wrong_method};
pub use call::{Arrival, RequestId};
pub use chat::{__path_chat, chat};
pub use completion::{__path_complete, complete};
pub(crate) use conversation::{Rendered, check_bytes};

use crate::http::guard::Caller;
use crate::http::guard::limits::KeyLimits;
use crate::http::problem::Problem;
use crate::lifecycle::run::ServiceRun;
use actix_web::{HttpResponse, web};
use std::collections::BTreeMap;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_fleet::State;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::{ModelEntry, ModelList};

/// `GET /v1/models`: the endpoints there are, which callers know as models, with their states.
///
/// # Errors
/// 429 when the caller's key has used up its limits.
#[utoipa::path(get, path = "/v1/models", tag = "openai", responses((status = 200, body = ModelList), (status = "4XX", body = ErrorEnvelope)))]
pub async fn models(
    endpoints: web::Data<Endpoints>,
    service_run: web::Data<ServiceRun>,
    limits: web::Data<KeyLimits>,
    caller: web::ReqData<Caller>,
) -> Result<HttpResponse, Problem> {
    let _permit = caller.permit(&limits)?;
    Ok(HttpResponse::Ok().json(ModelList {
        object: "list".into(),
        data: entries(&endpoints, &caller.visibility(), &service_run)
            .into_values()
            .collect(),
    }))
}

/// `GET /v1/models/{name}`: one of them.
///
/// # Errors
/// 404 for an unknown one.
#[utoipa::path(get, path = "/v1/models/{name}", tag = "openai", params(("name" = String, Path, description = "The endpoint")),
    responses((status = 200, body = ModelEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn model(
    endpoints: web::Data<Endpoints>,
    service_run: web::Data<ServiceRun>,
    limits: web::Data<KeyLimits>,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let _permit = caller.permit(&limits)?;
    let mut all = entries(&endpoints, &caller.visibility(), &service_run);
    match all.remove(name.as_str()) {
        Some(entry) => Ok(HttpResponse::Ok().json(entry)),
        None => Err(Problem::unknown_model(&name, all.keys())),
    }
}

/// Returns the endpoints that a caller knows of, by name.
fn entries(endpoints: &Endpoints, visibility: &Visibility, service_run: &ServiceRun) -> BTreeMap<String, ModelEntry> {
    let entry = |name: &str, state: State| ModelEntry {
        id: name.into(),
        object: "model".into(),
        created: service_run.started_at(),
        owned_by: "vastrelay".into(),
        state: state.name().into(),
        modes: None,
        context: None,
        simulated: None,
        defaults: None,
    };
    let resting = endpoints.resting().into_iter();
    let mut all: BTreeMap<String, ModelEntry> = resting
        .map(|(name, resting)| (name.clone(), entry(&name, resting.state)))
        .collect();
    for endpoint in endpoints.all() {
        let served = ModelEntry {
            modes: Some(endpoint.answer_settings.modes()),
            context: Some(endpoint.limits().context),
            simulated: Some(endpoint.device().is_simulated()),
            defaults: Some(options::defaults_of(&endpoint)),
            ..entry(&endpoint.name, endpoint.replicas.state())
        };
        all.insert(endpoint.name.clone(), served);
    }
    all.retain(|name, _| visibility.has(name));
    all
}
