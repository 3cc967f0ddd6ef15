//! The console's files, compiled into the binary.

use crate::http::declared::is_crooked;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use crate::openai;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY};
use actix_web::{HttpRequest, HttpResponse, web};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// Nothing but our own files and calls.
const POLICY: &str = "default-src 'self'; style-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'none'";

/// Any `GET` that is no other address: a file of the console, or its first page.
///
/// # Errors
/// 401, 403 and 404 for a path that means something else.
pub async fn file(state: web::Data<ServiceState>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    if is_crooked(request.path()) {
        return openai::wrong_address(state, request).await;
    }
    let path = request.path().trim_start_matches('/');
    // A page of an earlier version asks for scripts that are gone; the first page would be taken for one.
    if path.starts_with("assets/") && Files::get(path).is_none() {
        let text = "there is no such file; the console was upgraded, reload the page".into();
        return Err(Problem::not_kept(text));
    }
    let name = if path.is_empty() || Files::get(path).is_none() {
        "index.html"
    } else {
        path
    };
    let Some(file) = Files::get(name) else {
        return Ok(HttpResponse::NotFound()
            .content_type("text/plain; charset=utf-8")
            .body("This binary was built without the console. `cargo xtask demo` builds both.\n"));
    };
    // Files with a hash in their name never change.
    let lifetime = if name.starts_with("assets/") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    let found = HttpResponse::Ok()
        .content_type(mime_guess::from_path(name).first_or_octet_stream().as_ref())
        .insert_header((CACHE_CONTROL, lifetime))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .body(file.data.into_owned());
    Ok(found)
}
