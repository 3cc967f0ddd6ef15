//! The OpenAI wire.

mod address;
mod call;
mod chat;
mod completion;
mod options;
mod piece;

pub use address::{wrong_address, wrong_method};
pub use call::RequestId;
pub use chat::chat;
pub use completion::complete;

use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use vastrelay_wire::models::{ModelEntry, ModelList};

/// `GET /v1/models`.
pub async fn models(state: web::Data<ServiceState>) -> HttpResponse {
    HttpResponse::Ok().json(ModelList {
        object: "list".into(),
        data: state.models().map(|replica| entry(&replica.name, &state)).collect(),
    })
}

/// `GET /v1/models/{name}`.
///
/// # Errors
/// 404 for an unknown model.
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
