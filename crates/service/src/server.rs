//! How it listens, and how it stops.

use crate::departure::arrival;
use crate::keys::has_valid_key;
use crate::openai::{self, Arrival, RequestId, wrong_method};
use crate::problem::Problem;
use crate::state::ServiceState;
use crate::tls::{Tls, TlsError};
use crate::{console, health, listen, live, load, manage, metrics, models, openapi, text};
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::middleware::{Compress, Next};
use actix_web::{Error, HttpMessage, Resource, Route, guard as when, web};
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use vastrelay_store::{Store, StoreError};

/// Most bytes of a request's body.
pub(crate) const MOST_BODY: usize = 16 << 20;
/// How long requests may take to end after the service was told to stop.
const DRAIN_LIMIT: Duration = Duration::from_secs(60);
const REQUEST_ID: &str = "x-request-id";

/// Why the service cannot listen or go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServeError {
    /// The address is taken or not ours.
    #[error("cannot listen on {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
    },
    /// Listening elsewhere than on loopback needs a key.
    #[error(
        "{address} can be reached from other machines and the service has no key; \
         `vastrelay key create --data DIR --name NAME --scope manage` makes one, or 127.0.0.1 works without"
    )]
    NoKey {
        /// The address.
        address: SocketAddr,
    },
    /// The certificate cannot be used.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The database cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The server broke.
    #[error("the server broke: {0}")]
    Io(#[from] io::Error),
}

/// How a service serves.
#[derive(Clone, Debug, Default)]
pub struct ServeOptions {
    /// Certificate chain and private key, as PEM files; without, it speaks plain HTTP.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// How often a line in the log sums up what was done; never when absent.
    pub summary: Option<Duration>,
}

/// A service that listens.
pub struct Server {
    listener: TcpListener,
    address: SocketAddr,
    tls: Option<Tls>,
    summary: Option<Duration>,
}

impl Server {
    /// Takes an address; port 0 takes a free one.
    ///
    /// # Errors
    /// When it cannot be had, or the certificate cannot be used.
    pub fn bind(address: SocketAddr, options: &ServeOptions) -> Result<Server, ServeError> {
        let tls = options.tls.as_ref();
        let tls = tls.map(|(certificate, key)| Tls::read(certificate, key)).transpose()?;
        let listener = TcpListener::bind(address).map_err(|source| ServeError::Listen { address, source })?;
        let address = listener.local_addr()?;
        Ok(Server {
            listener,
            address,
            tls,
            summary: options.summary,
        })
    }

    /// Returns the address it listens on.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Returns the address as one types it.
    pub fn url(&self) -> String {
        let scheme = if self.tls.is_some() { "https" } else { "http" };
        format!("{scheme}://{}", self.address)
    }

    /// Returns whether what is sent to it can be read on the way from other machines.
    pub fn is_open_to_eavesdroppers(&self) -> bool {
        self.tls.is_none() && !self.address.ip().is_loopback()
    }

    /// Makes sure that somebody can call: a service that other machines can reach answers nobody without a key.
    ///
    /// # Errors
    /// When there is no key.
    pub fn check_keys(&self, store: &Store) -> Result<(), ServeError> {
        if !self.address.ip().is_loopback() && !has_valid_key(store)? {
            return Err(ServeError::NoKey { address: self.address });
        }
        Ok(())
    }

    /// Serves until the process is told to stop by SIGTERM or SIGINT; then refuses new requests, lets the others end, and
    /// returns.
    ///
    /// # Errors
    /// When the server breaks.
    pub async fn run(self, state: web::Data<ServiceState>) -> Result<(), ServeError> {
        let server = listen::serve(self.listener, self.tls.as_ref(), state.clone())?;
        let handle = server.handle();
        let running = tokio::spawn(server);
        let sampling = tokio::task::spawn_local(live::sample(state.clone(), self.summary));
        let (mut terminate, mut interrupt) = (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?);
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
        state.drain();
        tracing::info!(active = state.active_calls(), "draining");
        let begun = Instant::now();
        while state.active_calls() > 0 && begun.elapsed() < DRAIN_LIMIT {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        sampling.abort();
        handle.stop(true).await;
        let ended = running.await;
        state.store.flush();
        tracing::info!(left = state.active_calls(), "stopped");
        ended.map_err(io::Error::other)?.map_err(ServeError::Io)
    }
}

/// Returns an address and its way of being called; any other way is told the right one.
fn at(path: &str, routes: impl IntoIterator<Item = Route>) -> Resource {
    let resource = web::resource(path.to_owned());
    let resource = routes.into_iter().fold(resource, Resource::route);
    resource.default_service(web::to(wrong_method))
}

/// Every address of the service.
#[rustfmt::skip]
pub fn routes(config: &mut web::ServiceConfig) {
    config
        .app_data(web::PayloadConfig::new(MOST_BODY).limit(MOST_BODY))
        .app_data(web::QueryConfig::default().error_handler(|error, _| {
            Problem::field("query", format!("the query cannot be read: {error}")).into()
        }))
        .app_data(web::PathConfig::default().error_handler(|error, _| {
            Problem::field("path", format!("the address cannot be read: {error}")).into()
        }))
        .service(at("/v1/models", [web::get().to(openai::models)]))
        .service(at("/v1/models/{name}", [web::get().to(openai::model)]))
        .service(at("/v1/chat/completions", [web::post().to(openai::chat)]))
        .service(at("/v1/completions", [web::post().to(openai::complete)]))
        .service(at("/text/render", [web::post().to(text::render)]))
        .service(at("/text/encode", [web::post().to(text::encode)]))
        .service(at("/text/count", [web::post().to(text::count)]))
        .service(at("/text/decode", [web::post().to(text::decode)]))
        .service(at("/health/live", [web::get().to(health::live)]))
        .service(at("/health/ready", [web::get().to(health::ready)]))
        .service(at("/metrics", [web::get().to(metrics::metrics)]))
        .service(at("/openapi.json", [web::get().to(openapi::description)]))
        .service(at("/manage/status", [web::get().to(manage::status)]))
        .service(at("/manage/live", [web::get().to(live::live)]))
        .service(at("/manage/requests", [web::get().to(manage::requests)]))
        .service(at("/manage/requests/{id}", [web::get().to(manage::request)]))
        .service(at("/manage/models", [web::post().to(models::add)]))
        .service(at("/manage/models/{name}/steps", [web::get().to(manage::steps)]))
        .service(at("/manage/models/{name}/history", [web::get().to(manage::history)]))
        .service(at("/manage/keys", [web::get().to(manage::keys), web::post().to(manage::add_key)]))
        .service(at("/manage/keys/{id}", [web::delete().to(manage::revoke_key)]))
        .service(at("/manage/runs", [web::get().to(manage::runs), web::post().to(manage::add_run)]))
        .service(at("/manage/runs/{id}", [web::get().to(manage::run)]))
        .service(at("/manage/runs/{id}/report", [web::get().to(load::report)]))
        .service(at("/manage/comparison", [web::get().to(load::comparison)]))
        .service(at("/manage/load", [web::get().to(load::status), web::post().to(load::start), web::delete().to(load::stop)]))
        .service(
            web::resource("/{file:|console/.*|assets/.*|[a-z0-9-]+\\.(svg|html|txt|webmanifest)}")
                .guard(when::Get())
                .wrap(Compress::default())
                .to(console::file),
        )
        .default_service(web::to(openai::wrong_address));
}

/// Gives each request a name, the caller's own or a new one, says it in the answer, and counts the answer.
pub(crate) async fn name_request(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let begun = arrival(request.request());
    let given = request
        .headers()
        .get(REQUEST_ID)
        .and_then(|value| value.to_str().ok())
        .filter(|id| is_name(id));
    let id = given.map_or_else(|| uuid::Uuid::new_v4().simple().to_string(), str::to_owned);
    request.extensions_mut().insert(RequestId(id.clone()));
    request.extensions_mut().insert(Arrival(begun));
    let method = request.method().to_string();
    let state = request.app_data::<web::Data<ServiceState>>().cloned();
    let mut response = next.call(request).await?;
    if let Some(state) = state {
        // Addresses that callers make up are no labels.
        let route = response.request().match_pattern().unwrap_or_default();
        let route = if route.starts_with("/{file") { "console" } else { &route };
        let seconds = begun.elapsed().as_secs_f64();
        state.metrics.http(route, &method, response.status().as_u16(), seconds);
    }
    if let Ok(value) = HeaderValue::from_str(&id) {
        response
            .headers_mut()
            .insert(HeaderName::from_static(REQUEST_ID), value);
    }
    Ok(response)
}

/// Whether a caller's name for its request may stand in headers and logs.
fn is_name(text: &str) -> bool {
    (1..=100).contains(&text.len())
        && text
            .bytes()
            .all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte))
}
