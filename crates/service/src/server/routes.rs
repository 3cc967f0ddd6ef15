//! Every address of the service, and what each asks of its caller.

use crate::http::declared::{self, Listed};
use crate::http::guard::{Access, admit};
use crate::http::problem::Problem;
use crate::manage::{
    costs, deploy, devices, endpoint_changes, endpoints, events, fit, history, jobs, keys, live, load, requests, roots,
    runs, session, status, steps,
};
use crate::openai;
use crate::openai::{wrong_address, wrong_method};
use crate::server::{console_files, health, openapi, scrape};
use crate::text;
use actix_web::http::Method;
use actix_web::middleware::{Compress, from_fn};
use actix_web::{FromRequest, Handler, Responder, Route, guard as when, web};

/// An address: a path with the ways of calling it. It cannot be called until it says who may.
pub(crate) struct Address {
    path: &'static str,
    access: Option<Access>,
    calls: Vec<(Method, Route)>,
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
        at("/health/ready/{name:.+}").get(health::endpoint_ready).asks(Access::Nothing),
        at("/metrics").get(scrape::metrics).asks(Access::Use),
        at("/openapi.json").get(openapi::description).asks(Access::Nothing),
        at("/spec-schema.json").get(openapi::spec_schema).asks(Access::Nothing),
        at("/session").post(session::begin).delete(session::end).asks(Access::Nothing),
        at("/manage/console").post(session::offer).asks(Access::Manage),
        at("/manage/status").get(status::status).asks(Access::Manage),
        at("/manage/live").get(live::live).asks(Access::Manage),
        at("/manage/requests").get(requests::requests).asks(Access::Manage),
        at("/manage/requests/{id}").get(requests::request).asks(Access::Manage),
        at("/manage/devices").get(devices::devices).asks(Access::Manage),
        at("/manage/fit").get(fit::fit).asks(Access::Manage),
        at("/manage/endpoints").post(deploy::deploy).asks(Access::Manage),
        at("/manage/check").post(deploy::check).asks(Access::Manage),
        at("/manage/jobs").get(jobs::jobs).asks(Access::Manage),
        at("/manage/jobs/{number}").get(jobs::job).delete(jobs::cancel).asks(Access::Manage),
        at("/manage/builds").get(jobs::builds).asks(Access::Manage),
        at("/manage/roots").get(roots::roots).asks(Access::Manage),
        at("/manage/events").get(events::events).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/stop").post(endpoint_changes::stop).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/park").post(endpoint_changes::park).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/start").post(endpoint_changes::start).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/renew").post(endpoint_changes::renew).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/log").get(endpoints::log).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/steps").get(steps::steps).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/costs").get(costs::costs).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}/history").get(history::history).asks(Access::Manage),
        at("/manage/endpoints/{name:.+}").get(endpoints::detail).delete(endpoint_changes::remove).asks(Access::Manage),
        at("/manage/keys").get(keys::keys).post(keys::add_key).asks(Access::Manage),
        at("/manage/keys/{id}").delete(keys::revoke_key).asks(Access::Manage),
        at("/manage/runs").get(runs::runs).post(runs::add_run).asks(Access::Manage),
        at("/manage/runs/{id}").get(runs::run).delete(runs::remove_run).asks(Access::Manage),
        at("/manage/runs/{id}/report").get(runs::report).asks(Access::Manage),
        at("/manage/comparison").get(runs::comparison).asks(Access::Manage),
        at("/manage/load").get(load::status).post(load::start).delete(load::stop).asks(Access::Manage),
    ]
}

/// Makes all addresses known to those who ask for them; an address that nobody may call is left out.
pub(crate) fn declare() {
    let listed = all().into_iter().filter_map(|address| {
        Some(Listed {
            path: address.path,
            methods: address.calls.into_iter().map(|(method, _)| method).collect(),
            access: address.access?,
        })
    });
    declared::declare(listed.collect());
}

/// Returns the description of the interface as JSON, as it is served.
pub fn document() -> String {
    declare();
    openapi::document()
}

/// Makes sure that every address says who may call it.
///
/// # Errors
/// The path of the first that does not.
pub(crate) fn check() -> Result<(), &'static str> {
    declared(&all())
}

fn declared(addresses: &[Address]) -> Result<(), &'static str> {
    match addresses.iter().find(|address| address.access.is_none()) {
        Some(address) => Err(address.path),
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
                .to(console_files::file),
        )
        .default_service(web::to(wrong_address));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_service_with_an_undeclared_address_does_not_start() {
        assert!(check().is_ok());
        let undeclared = [
            at("/open").get(health::live).asks(Access::Nothing),
            at("/forgotten").get(health::live),
        ];
        assert_eq!(declared(&undeclared), Err("/forgotten"));
    }
}
