//! The description of the interface: `GET /openapi.json`.

use crate::{health, live, load, manage, metrics, models, openai, text};
use actix_web::HttpResponse;
use std::sync::LazyLock;
use utoipa::OpenApi;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{HttpMethod, SecurityRequirement};

/// Everything that can be called.
#[derive(OpenApi)]
#[openapi(
    info(
        title = "Vast Relay",
        description = "Open-weight language models behind OpenAI-compatible endpoints, and their management."
    ),
    paths(
        openai::models, openai::model, openai::chat, openai::complete,
        text::render, text::encode, text::count, text::decode,
        manage::status, manage::requests, manage::request, manage::steps, manage::history, models::add, live::live,
        manage::keys, manage::add_key, manage::revoke_key,
        manage::runs, manage::run, manage::add_run,
        load::report, load::comparison, load::status, load::start, load::stop,
        metrics::metrics, health::live, health::ready, description,
    ),
    components(schemas(
        load::ReportForm,
        vastrelay_wire::chat::ChatPiece,
        vastrelay_wire::error::ErrorEnvelope,
        vastrelay_wire::manage::LiveSteps,
    )),
    tags(
        (name = "openai", description = "The OpenAI wire"),
        (name = "text", description = "Text and tokens without an answer"),
        (name = "manage", description = "How things stand and what was called"),
        (name = "keys", description = "Keys of callers"),
        (name = "load", description = "Load tests: sending, and those that are kept"),
    )
)]
struct Description;

static DOCUMENT: LazyLock<utoipa::openapi::OpenApi> = LazyLock::new(|| {
    let mut document = Description::openapi();
    let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
    let components = document.components.get_or_insert_default();
    components.add_security_scheme("key", scheme);
    // A service on loopback wants no key unless it is told to, so callers may come without.
    document.security = Some(vec![
        SecurityRequirement::default(),
        SecurityRequirement::new("key", [""; 0]),
    ]);
    document
});

/// `GET /openapi.json`: this description.
#[utoipa::path(get, path = "/openapi.json", tag = "manage", responses((status = 200, description = "OpenAPI 3.1", body = serde_json::Value)))]
pub async fn description() -> HttpResponse {
    HttpResponse::Ok().json(&*DOCUMENT)
}

/// Returns the description as JSON, as it is served.
pub fn document() -> String {
    serde_json::to_string_pretty(&*DOCUMENT).expect("a description is JSON")
}

/// Returns every method and address that is described.
pub(crate) fn addresses() -> Vec<(&'static str, &'static str)> {
    let mut addresses = Vec::new();
    for (path, item) in &DOCUMENT.paths.paths {
        let methods = [
            (HttpMethod::Get, "GET", &item.get),
            (HttpMethod::Post, "POST", &item.post),
            (HttpMethod::Delete, "DELETE", &item.delete),
        ];
        let described = methods.into_iter().filter(|(_, _, operation)| operation.is_some());
        addresses.extend(described.map(|(_, name, _)| (name, path.as_str())));
    }
    addresses
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn the_consoles_types_are_made_from_this_description() {
        let there = include_str!("../../../console/openapi.json");
        assert!(there.trim_end() == document(), "`cargo xtask types` makes them anew");
    }

    #[test]
    fn what_is_described_is_what_is_routed() {
        let routed: BTreeSet<(String, String)> = include_str!("server.rs")
            .lines()
            .filter_map(|line| line.trim().strip_prefix(".service(at(\"")?.strip_suffix("))"))
            .map(|line| {
                let (path, routes) = line.split_once('"').unwrap();
                (path.to_owned(), routes.to_owned())
            })
            .flat_map(|(path, routes)| {
                ["get", "post", "delete"]
                    .into_iter()
                    .filter(move |method| routes.contains(&format!("web::{method}()")))
                    .map(move |method| (method.to_uppercase(), path.clone()))
            })
            .collect();
        let described: BTreeSet<(String, String)> = addresses()
            .into_iter()
            .map(|(method, path)| (method.to_owned(), path.to_owned()))
            .collect();
        assert_eq!(routed, described);
        assert!(described.len() > 20);
    }
}
