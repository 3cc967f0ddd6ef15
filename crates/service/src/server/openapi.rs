//! The description of the interface: `GET /openapi.json`.

use crate::http::declared::listed;
use crate::http::guard::Access;
use crate::manage::{
    costs, deploy, devices, endpoint_changes, endpoints, events, fit, history, jobs, keys, live, load, requests, roots,
    runs, session, status, steps,
};
use crate::server::{health, scrape};
use crate::{openai, text};
use actix_web::HttpResponse;
use std::sync::LazyLock;
use utoipa::OpenApi;
use utoipa::openapi::SecurityRequirement;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use vastrelay_fleet::Spec;

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
        status::status, requests::requests, requests::request, steps::steps, history::history, costs::costs,
        devices::devices, fit::fit, deploy::deploy, deploy::check, endpoints::detail, endpoint_changes::stop, endpoint_changes::park, endpoints::log, endpoint_changes::start, endpoint_changes::renew, endpoint_changes::remove, events::events, jobs::jobs, jobs::job, jobs::cancel, jobs::builds, roots::roots, live::live,
        keys::keys, keys::add_key, keys::revoke_key, session::offer, session::begin, session::end,
        runs::runs, runs::run, runs::add_run, runs::remove_run, runs::report, runs::comparison,
        load::status, load::start, load::stop,
        scrape::metrics, health::live, health::ready, health::endpoint_ready, description, spec_schema,
    ),
    components(schemas(
        runs::ReportForm,
        vastrelay_wire::chat::ChatPiece,
        vastrelay_wire::error::ErrorEnvelope,
    )),
    tags(
        (name = "openai", description = "The OpenAI wire"),
        (name = "text", description = "Templates and tokens, without generating"),
        (name = "manage", description = "Status, endpoints and requests"),
        (name = "keys", description = "Keys of callers"),
        (name = "load", description = "Load tests"),
    )
)]
struct Description;

static DOCUMENT: LazyLock<utoipa::openapi::OpenApi> = LazyLock::new(|| {
    let mut document = Description::openapi();
    let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
    let components = document.components.get_or_insert_default();
    components.add_security_scheme("key", scheme);
    for (path, item) in &mut document.paths.paths {
        let address = listed()
            .iter()
            .find(|address| address.path.replace(":.+}", "}") == *path);
        let access = address.map_or(Access::Manage, |address| address.access);
        for operation in [&mut item.get, &mut item.post, &mut item.delete].into_iter().flatten() {
            operation.security = Some(security(access));
        }
    }
    document
});

/// Says which key an address asks for. A service on loopback requires none for calling models, unless it is told to.
fn security(access: Access) -> Vec<SecurityRequirement> {
    let without = SecurityRequirement::default();
    match access {
        Access::Nothing => vec![without],
        Access::Use => vec![without, SecurityRequirement::new("key", ["use"])],
        Access::Manage => vec![SecurityRequirement::new("key", ["manage"])],
    }
}

/// `GET /spec-schema.json`: the JSON Schema of specs, with which editors complete them.
#[utoipa::path(get, path = "/spec-schema.json", tag = "manage", responses((status = 200, description = "JSON Schema 2020-12", body = serde_json::Value)))]
pub async fn spec_schema() -> HttpResponse {
    HttpResponse::Ok().json(Spec::schema())
}

/// `GET /openapi.json`: this description.
#[utoipa::path(get, path = "/openapi.json", tag = "manage", responses((status = 200, description = "OpenAPI 3.1", body = serde_json::Value)))]
pub async fn description() -> HttpResponse {
    HttpResponse::Ok().json(&*DOCUMENT)
}

/// Returns the description as JSON, as it is served.
pub(crate) fn document() -> String {
    serde_json::to_string_pretty(&*DOCUMENT).expect("a description is JSON")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn the_consoles_types_are_made_from_this_description() {
        let there = include_str!("../../../../console/openapi.json");
        assert!(
            there.trim_end() == crate::document(),
            "`cargo xtask types` makes them anew"
        );
    }

    /// Returns every method and address that is described.
    fn described() -> BTreeSet<(String, String)> {
        let mut addresses = BTreeSet::new();
        for (path, item) in &DOCUMENT.paths.paths {
            let methods = [("GET", &item.get), ("POST", &item.post), ("DELETE", &item.delete)];
            let described = methods.into_iter().filter(|(_, operation)| operation.is_some());
            addresses.extend(described.map(|(name, _)| (name.to_owned(), path.clone())));
        }
        addresses
    }

    #[test]
    fn what_is_described_is_what_is_routed() {
        crate::server::routes::declare();
        let routed: BTreeSet<(String, String)> = listed()
            .iter()
            .flat_map(|address| {
                let path = address.path.replace(":.+}", "}");
                address
                    .methods
                    .iter()
                    .map(move |method| (method.to_string(), path.clone()))
            })
            .collect();
        assert_eq!(routed, described());
        assert!(routed.len() > 20);
    }
}
