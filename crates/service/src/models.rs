//! Models that begin to be served while the service runs: `POST /manage/models`.

use crate::manage::model_status;
use crate::openai::read_body;
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::web::Bytes;
use actix_web::{Error, HttpResponse, web};
use std::path::{Path, PathBuf};
use vastrelay_serving::{Replica, ReplicaSettings};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{ModelStatus, NewModel};
use vastrelay_wire::parse::parse_body;

/// How models are loaded.
pub struct Loader {
    /// What each may take.
    pub settings: ReplicaSettings,
    /// Where the demo's weights are unpacked.
    pub data: PathBuf,
    /// Unpacks them and returns their folder.
    pub unpack_demo: fn(&Path) -> Result<PathBuf, String>,
}

/// `POST /manage/models`: loads a folder of weights, or the demo's own, and serves it.
///
/// # Errors
/// 400 when the folder cannot be read, run or fitted, 409 when the name is taken.
#[utoipa::path(post, path = "/manage/models", operation_id = "add_model", tag = "manage", request_body = NewModel, responses(
    (status = 201, body = ModelStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add(state: web::Data<ServiceState>, body: Result<Bytes, Error>) -> Result<HttpResponse, Problem> {
    let wanted: NewModel = parse_body(&read_body(body)?).map_err(|error| Problem::body(&error))?;
    if wanted.name.trim().is_empty() {
        return Err(Problem::field(
            "name",
            "a model wants a name of one letter or more".into(),
        ));
    }
    let shared = state.clone();
    let loaded = web::block(move || load(&shared, &wanted)).await;
    let replica = loaded.map_err(|error| Problem::internal(error.to_string()))??;
    Ok(HttpResponse::Created().json(model_status(&state, &replica)))
}

fn load(state: &ServiceState, wanted: &NewModel) -> Result<std::sync::Arc<Replica>, Problem> {
    let taken = || {
        let message = format!("`{}` is served already; another name works", wanted.name);
        Problem::conflict("name_taken", message)
    };
    if state.model(&wanted.name).is_ok() {
        return Err(taken());
    }
    let loader = &state.loader;
    let folder = match (&wanted.path, wanted.demo) {
        (Some(path), false) => PathBuf::from(path),
        (None, true) => (loader.unpack_demo)(&loader.data).map_err(Problem::internal)?,
        _ => {
            let message = "either `path` names a folder of weights, or `demo` is true".into();
            return Err(Problem::field("path", message));
        }
    };
    let replica = Replica::load(&wanted.name, &folder, &loader.settings)
        .map_err(|error| Problem::field("path", format!("`{}` cannot be served: {error}", wanted.name)))?;
    // Somebody may have been faster.
    state.add_model(replica).ok_or_else(taken)
}
