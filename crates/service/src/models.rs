//! Models that come and go while the service runs: `/manage/models`.

use crate::guard::Body;
use crate::manage::model_status;
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use vastrelay_serving::Replica;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{ModelStatus, NewModel};
use vastrelay_wire::parse::parse_body;

/// `POST /manage/models`: loads a folder of weights, or the demo's own, and serves it.
///
/// # Errors
/// 400 when the folder cannot be read or run, or does not fit; 409 when the name is taken.
#[utoipa::path(post, path = "/manage/models", operation_id = "add_model", tag = "manage", request_body = NewModel, responses(
    (status = 201, body = ModelStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let wanted: NewModel = parse_body(body.order()?).map_err(|error| Problem::body(&error))?;
    check_name(&wanted.name).map_err(|reason| Problem::field("name", reason))?;
    let shared = state.clone();
    let loaded = web::block(move || load(&shared, &wanted)).await;
    let replica = loaded.map_err(|error| Problem::internal(error.to_string()))??;
    Ok(HttpResponse::Created().json(model_status(&state, &replica)))
}

fn load(state: &ServiceState, wanted: &NewModel) -> Result<Arc<Replica>, Problem> {
    let taken = || {
        let message = format!("`{}` is already being served; choose another name", wanted.name);
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
            let message = "send either `path`, a folder of weights, or `demo`: true".into();
            return Err(Problem::field("path", message));
        }
    };
    let replica = Replica::load(&wanted.name, &folder, &loader.settings)
        .map_err(|error| Problem::field("path", format!("`{}` cannot be served: {error}", wanted.name)))?;
    // Somebody may have been faster.
    state.add_model(replica).ok_or_else(taken)
}

/// `DELETE /manage/models/{name}`: stops serving a model, failed or not, and gives its memory back. Answers that are under
/// way are completed first.
///
/// # Errors
/// 404 when there is no such model.
#[utoipa::path(delete, path = "/manage/models/{name}", operation_id = "remove_model", tag = "manage",
    params(("name" = String, Path, description = "The model")), responses(
    (status = 200, body = ModelStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn remove(state: web::Data<ServiceState>, name: web::Path<String>) -> Result<HttpResponse, Problem> {
    let last = model_status(&state, &*state.model(&name)?);
    let removed = state.remove_model(&name)?;
    tracing::info!(model = %name, "removed");
    // Ending an engine waits for its step; the threads that serve HTTP do not.
    let let_go = std::thread::Builder::new().name("remove".into());
    let spawned = let_go.spawn(move || {
        while Arc::strong_count(&removed) > 1 {
            std::thread::sleep(LOOK_AGAIN);
        }
    });
    spawned.map_err(|error| Problem::internal(error.to_string()))?;
    Ok(HttpResponse::Ok().json(last))
}

/// Time between two looks at whether a removed model's answers have ended.
const LOOK_AGAIN: Duration = Duration::from_millis(20);
/// Longest name of a model.
const LONGEST_NAME: usize = 100;

/// Checks a model's name: it stands in addresses, logs and metrics.
///
/// # Errors
/// What is wrong, and what works.
pub fn check_name(name: &str) -> Result<(), String> {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.@/".contains(&byte);
    let is_segment = |part: &str| !part.is_empty() && part != "." && part != "..";
    if name.len() <= LONGEST_NAME && name.bytes().all(plain) && name.split('/').all(is_segment) {
        return Ok(());
    }
    let shown: String = name.chars().take(LONGEST_NAME).collect();
    Err(format!(
        "`{}` is not a model name; use up to {LONGEST_NAME} letters, digits and - _ . @ /",
        shown.escape_debug()
    ))
}

#[cfg(test)]
mod tests {
    use super::check_name;

    #[test]
    fn names_fit_into_addresses_logs_and_metrics() {
        for good in ["pierdesk", "ferries/pierdesk@2", "a-b_c.d"] {
            assert!(check_name(good).is_ok(), "{good}");
        }
        for wrong in [
            "",
            "a b",
            "a\u{1b}[2J",
            "a\nb",
            "../a",
            "a//b",
            "/",
            "é",
            &"x".repeat(101),
        ] {
            assert!(check_name(wrong).is_err(), "{wrong}");
        }
    }
}
