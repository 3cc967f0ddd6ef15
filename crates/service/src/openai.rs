//! The OpenAI wire.

mod address;
mod answer;
mod asked;
mod call;
mod chat;
mod completion;
mod conversation;
mod events;
mod ignored;
mod options;
mod piece;
mod plain_logprobs;
mod respond;

pub use address::{wrong_address, wrong_method};
pub use call::{Arrival, RequestId};
pub use chat::{__path_chat, chat};
pub use completion::{__path_complete, complete};
pub(crate) use conversation::{Rendered, check_bytes};

use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::{ModelEntry, ModelList};

/// `GET /v1/models`: the models there are.
#[utoipa::path(get, path = "/v1/models", tag = "openai", responses((status = 200, body = ModelList)))]
pub async fn models(state: web::Data<ServiceState>) -> HttpResponse {
    HttpResponse::Ok().json(ModelList {
        object: "list".into(),
        data: state
            .models()
            .iter()
            .map(|replica| entry(&replica.name, &state))
            .collect(),
    })
}

/// `GET /v1/models/{name}`: one model.
///
/// # Errors
/// 404 for an unknown model.
#[utoipa::path(get, path = "/v1/models/{name}", tag = "openai", params(("name" = String, Path, description = "The model")),
    responses((status = 200, body = ModelEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn model(
    state: web::Data<ServiceState>,
    name: web::Path<String>,
) -> Result<HttpResponse, crate::problem::Problem> {
    Ok(HttpResponse::Ok().json(entry(&state.model(&name)?.name, &state)))
}

fn entry(name: &str, state: &ServiceState) -> ModelEntry {
    ModelEntry {
        id: name.into(),
        object: "model".into(),
        created: state.started_at(),
        owned_by: "vastrelay".into(),
    }
}
