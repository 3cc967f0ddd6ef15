//! `GET /manage/roots`.

use actix_web::{HttpResponse, web};
use vastrelay_control::placement::loader::Loader;

/// `GET /manage/roots`: the folders of the service's machine beneath which callers over the network may name models, templates
/// and profiles. The service's own user may name any file, over the management socket.
#[utoipa::path(get, path = "/manage/roots", operation_id = "model_roots", tag = "manage",
    responses((status = 200, body = Vec<String>)))]
pub async fn roots(loader: web::Data<Loader>) -> HttpResponse {
    let folders = loader.roots.folders().iter();
    let folders: Vec<String> = folders.map(|folder| folder.display().to_string()).collect();
    HttpResponse::Ok().json(folders)
}
