//! The OpenAI wire.

mod address;
mod answer;
mod asked;
mod call;
mod chat;
mod completion;
mod conversation;
mod events;
mod frames;
mod ignored;
mod options;
mod piece;
mod plain_logprobs;
mod respond;
mod shape;

pub use address::{wrong_address, wrong_method};
pub use call::{Arrival, RequestId};
pub use chat::{__path_chat, chat};
pub use completion::{__path_complete, complete};
pub(crate) use conversation::{Rendered, check_bytes};

use crate::endpoints::Endpoints;
use crate::guard::Caller;
use crate::life::Life;
use crate::problem::Problem;
use actix_web::{HttpResponse, web};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::{ModelEntry, ModelList};

/// `GET /v1/models`: the endpoints there are, which callers know as models.
#[utoipa::path(get, path = "/v1/models", tag = "openai", responses((status = 200, body = ModelList)))]
pub async fn models(
    endpoints: web::Data<Endpoints>,
    life: web::Data<Life>,
    caller: web::ReqData<Caller>,
) -> HttpResponse {
    let sight = caller.sight();
    let mut all = endpoints.all();
    all.retain(|endpoint| sight.has(&endpoint.name));
    HttpResponse::Ok().json(ModelList {
        object: "list".into(),
        data: all.iter().map(|endpoint| entry(&endpoint.name, &life)).collect(),
    })
}

/// `GET /v1/models/{name}`: one of them.
///
/// # Errors
/// 404 for an unknown one.
#[utoipa::path(get, path = "/v1/models/{name}", tag = "openai", params(("name" = String, Path, description = "The endpoint")),
    responses((status = 200, body = ModelEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn model(
    endpoints: web::Data<Endpoints>,
    life: web::Data<Life>,
    caller: web::ReqData<Caller>,
    name: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let endpoint = endpoints.called(&name, &caller.sight())?;
    Ok(HttpResponse::Ok().json(entry(&endpoint.name, &life)))
}

fn entry(name: &str, life: &Life) -> ModelEntry {
    ModelEntry {
        id: name.into(),
        object: "model".into(),
        created: life.started_at(),
        owned_by: "vastrelay".into(),
    }
}
