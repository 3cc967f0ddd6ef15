//! Every address of the service, and what each asks of its caller.

use crate::guard::{Access, admit};
use crate::openai::{self, wrong_address, wrong_method};
use crate::problem::Problem;
use crate::server::ServeError;
use crate::{console, health, live, load, manage, metrics, models, openapi, text};
use actix_web::http::Method;
use actix_web::middleware::{Compress, from_fn};
use actix_web::{FromRequest, Handler, Responder, Route, guard as when, web};
use std::sync::LazyLock;

/// An address: a path with the ways of calling it. It cannot be called until it says who may.
pub(crate) struct Address {
    path: &'static str,
    access: Option<Access>,
    calls: Vec<(Method, Route)>,
}

/// What is known of an address without its handlers.
pub(crate) struct Listed {
    /// The path; a word in braces stands for any.
    pub path: &'static str,
    /// Ways of calling it.
    pub methods: Vec<Method>,
    /// Who may.
    pub access: Access,
}

fn at(path: &'static str) -> Address {
    Address {
        path,
        access: None,
        calls: Vec::new(),
    }
}

impl Address {
    fn get<F, Args>(self, handler: F) -> Address
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.call(Method::GET, web::get().to(handler))
    }

    fn post<F, Args>(self, handler: F) -> Address
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.call(Method::POST, web::post().to(handler))
    }

    fn delete<F, Args>(self, handler: F) -> Address
    where
        F: Handler<Args>,
        Args: FromRequest + 'static,
        F::Output: Responder + 'static,
    {
        self.call(Method::DELETE, web::delete().to(handler))
    }

    fn call(mut self, method: Method, route: Route) -> Address {
        self.calls.push((method, route));
        self
    }

    /// Declares who may call it.
    fn asks(self, access: Access) -> Address {
        Address {
            access: Some(access),
            ..self
        }
    }
}

#[rustfmt::skip]
fn all() -> Vec<Address> {
    vec![
        at("/v1/models").get(openai::models).asks(Access::Use),
        at("/v1/models/{name:.+}").get(openai::model).asks(Access::Use),
        at("/v1/chat/completions").post(openai::chat).asks(Access::Use),
        at("/v1/completions").post(openai::complete).asks(Access::Use),
        at("/text/render").post(text::render).asks(Access::Use),
        at("/text/encode").post(text::encode).asks(Access::Use),
        at("/text/count").post(text::count).asks(Access::Use),
        at("/text/decode").post(text::decode).asks(Access::Use),
        at("/health/live").get(health::live).asks(Access::Nothing),
        at("/health/ready").get(health::ready).asks(Access::Nothing),
        at("/health/ready/{name:.+}").get(health::model_ready).asks(Access::Nothing),
        at("/metrics").get(metrics::metrics).asks(Access::Use),
        at("/openapi.json").get(openapi::description).asks(Access::Nothing),
        at("/manage/status").get(manage::status).asks(Access::Manage),
        at("/manage/live").get(live::live).asks(Access::Manage),
        at("/manage/requests").get(manage::requests).asks(Access::Manage),
        at("/manage/requests/{id}").get(manage::request).asks(Access::Manage),
        at("/manage/models").post(models::add).asks(Access::Manage),
        at("/manage/models/{name:.+}/steps").get(manage::steps).asks(Access::Manage),
        at("/manage/models/{name:.+}/history").get(manage::history).asks(Access::Manage),
        at("/manage/models/{name:.+}").delete(models::remove).asks(Access::Manage),
        at("/manage/keys").get(manage::keys).post(manage::add_key).asks(Access::Manage),
        at("/manage/keys/{id}").delete(manage::revoke_key).asks(Access::Manage),
        at("/manage/runs").get(manage::runs).post(manage::add_run).asks(Access::Manage),
        at("/manage/runs/{id}").get(manage::run).asks(Access::Manage),
        at("/manage/runs/{id}/report").get(load::report).asks(Access::Manage),
        at("/manage/comparison").get(load::comparison).asks(Access::Manage),
        at("/manage/load").get(load::status).post(load::start).delete(load::stop).asks(Access::Manage),
    ]
}

static LISTED: LazyLock<Vec<Listed>> = LazyLock::new(|| {
    let listed = all().into_iter().filter_map(|address| {
        Some(Listed {
            path: address.path,
            methods: address.calls.into_iter().map(|(method, _)| method).collect(),
            access: address.access?,
        })
    });
    listed.collect()
});

/// Returns every address.
pub(crate) fn listed() -> &'static [Listed] {
    &LISTED
}

/// Makes sure that every address says who may call it.
///
/// # Errors
/// The first that does not.
pub(crate) fn check() -> Result<(), ServeError> {
    declared(&all())
}

fn declared(addresses: &[Address]) -> Result<(), ServeError> {
    match addresses.iter().find(|address| address.access.is_none()) {
        Some(address) => Err(ServeError::Undeclared { path: address.path }),
        None => Ok(()),
    }
}

/// Puts all of them in place. Whatever has no address of its own is answered by [`wrong_address`].
pub(crate) fn routes(config: &mut web::ServiceConfig) {
    let wrong_query =
        |error: &dyn std::fmt::Display| Problem::field("query", format!("the query is not valid: {error}"));
    let wrong_path =
        |error: &dyn std::fmt::Display| Problem::field("path", format!("the address is not valid: {error}"));
    config
        .app_data(web::QueryConfig::default().error_handler(move |error, _| wrong_query(&error).into()))
        .app_data(web::PathConfig::default().error_handler(move |error, _| wrong_path(&error).into()));
    for Address { path, access, calls } in all() {
        let resource = calls
            .into_iter()
            .fold(web::resource(path), |resource, (_, route)| resource.route(route));
        let resource = resource.default_service(web::to(wrong_method));
        // Without a declaration nobody may.
        config.service(resource.wrap(from_fn(move |request, next| admit(access, request, next))));
    }
    config
        .service(
            web::resource("/{file:|console(?:/.*)?|assets/.*|[a-z0-9-]+\\.(svg|html|txt|webmanifest)}")
                .guard(when::Get())
                .wrap(Compress::default())
                .wrap(from_fn(|request, next| admit(Some(Access::Nothing), request, next)))
                .to(console::file),
        )
        .default_service(web::to(wrong_address));
}

/// Returns what an address that is not one of ours asks of its caller: as much as the one it resembles, in whatever way it is
/// spelt, else a key.
pub(crate) fn access_of(path: &str) -> Access {
    resembled(path)
        .map(|address| address.access)
        .max()
        .unwrap_or(Access::Use)
}

/// Returns the addresses that a path is a misspelling of: letters percent-encoded or in upper case, a prefix missing or
/// doubled, slashes or dot segments too many.
pub(crate) fn resembled(path: &str) -> impl Iterator<Item = &'static Listed> {
    let words = plain_words(path);
    listed().iter().filter(move |address| {
        let wanted = plain_words(address.path);
        let any_end = wanted.last().is_some_and(|word| word.ends_with(":.+}"));
        let is_like = |(word, wanted): (&String, &String)| wanted.starts_with('{') || word == wanted;
        (words.len() == wanted.len() || any_end && words.len() > wanted.len()) && words.iter().zip(&wanted).all(is_like)
    })
}

/// Whether a path has segments that mean another one, or empty ones.
pub(crate) fn is_crooked(path: &str) -> bool {
    let plain = decoded(path);
    plain.contains("//") || plain.split('/').any(|word| word == "." || word == "..")
}

/// Returns the segments of a path in their plainest spelling, without version prefixes.
fn plain_words(path: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in decoded(path).split(['/', '\\']) {
        match word {
            "" | "." => {}
            ".." => drop(words.pop()),
            word => words.push(if word.starts_with('{') {
                word.to_owned()
            } else {
                word.to_lowercase()
            }),
        }
    }
    words.retain(|word| word != "v1");
    words
}

/// Decodes percent-encoding until there is none left.
fn decoded(path: &str) -> String {
    let mut text = path.to_owned();
    for _ in 0..3 {
        let once = percent_encoding::percent_decode_str(&text)
            .decode_utf8_lossy()
            .into_owned();
        if once == text {
            break;
        }
        text = once;
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn resembles(path: &str, address: &str) -> bool {
        resembled(path).any(|listed| listed.path == address)
    }

    #[test]
    fn near_misses_resemble_and_others_do_not() {
        for path in [
            "/chat/completions",
            "/v1/v1/chat/completions",
            "/v1//chat/completions/",
            "/V1/Chat/completions",
            "/v1/%63hat/./completions",
        ] {
            assert!(resembles(path, "/v1/chat/completions"), "{path}");
        }
        assert!(!resembles("/v1/completions", "/v1/chat/completions"));
        assert!(!resembles("/v1/images", "/v1/models"));
    }

    #[test]
    fn a_service_with_an_undeclared_address_does_not_start() {
        assert!(check().is_ok());
        let undeclared = [
            at("/open").get(health::live).asks(Access::Nothing),
            at("/forgotten").get(health::live),
        ];
        let error = declared(&undeclared).unwrap_err().to_string();
        assert!(error.contains("/forgotten"), "{error}");
    }

    #[test]
    fn every_spelling_of_an_address_asks_for_as_much() {
        for path in [
            "/manage/keys/",
            "//manage//keys",
            "/%6danage/keys",
            "/manage%2fkeys",
            "/manage%252Fkeys",
            "/console/../manage/keys",
            "/manage/runs/../keys",
            "/MANAGE/Keys",
            "/v1/manage/keys",
        ] {
            assert_eq!(access_of(path), Access::Manage, "{path}");
        }
        assert_eq!(access_of("/health/live/"), Access::Nothing);
        assert_eq!(access_of("/nothing/like/it"), Access::Use);
    }

    proptest! {
        /// Whatever is done to the spelling of a managing address, a caller without a key is not let in.
        #[test]
        fn no_spelling_opens_an_address(index in 0usize..28, encode in prop::collection::vec(any::<bool>(), 40), doubled in 0usize..4) {
            let address = &listed()[index % listed().len()];
            let spelt: String = address.path.char_indices().map(|(at, c)| match c {
                '/' if at == doubled => "//".to_owned(),
                c if c.is_ascii_lowercase() && encode[at % encode.len()] => format!("%{:02x}", c as u32),
                c => c.to_string(),
            }).collect();
            if !address.path.contains('{') {
                prop_assert!(access_of(&spelt) >= address.access, "{}", spelt);
            }
        }
    }
}
