//! How it listens, and how it stops.

use crate::openai::{self, RequestId};
use crate::state::ServiceState;
use crate::{console, departure, health, manage};
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::middleware::{Next, from_fn};
use actix_web::{App, Error, HttpMessage, HttpServer, guard, web};
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};

/// Most bytes of a request's body.
pub(crate) const MOST_BODY: usize = 16 << 20;
/// How long requests may take to end after the service was told to stop.
const DRAIN_LIMIT: Duration = Duration::from_secs(60);
/// Threads that serve HTTP.
const WORKERS: usize = 2;
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
    /// Listening elsewhere than on loopback needs keys, which do not exist yet.
    #[error("{address} can be reached from other machines and the service has no key; 127.0.0.1 or [::1] works")]
    NotLoopback {
        /// The address.
        address: SocketAddr,
    },
    /// The server broke.
    #[error("the server broke: {0}")]
    Io(#[from] io::Error),
}

/// A service that listens.
pub struct Server {
    listener: TcpListener,
    address: SocketAddr,
}

impl Server {
    /// Takes an address; port 0 takes a free one.
    ///
    /// # Errors
    /// When it is not on loopback or cannot be had.
    pub fn bind(address: SocketAddr) -> Result<Server, ServeError> {
        if !address.ip().is_loopback() {
            return Err(ServeError::NotLoopback { address });
        }
        let listener = TcpListener::bind(address).map_err(|source| ServeError::Listen { address, source })?;
        let address = listener.local_addr()?;
        Ok(Server { listener, address })
    }

    /// Returns the address it listens on.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Serves until the process is told to stop by SIGTERM or SIGINT; then refuses new requests, lets the others end, and
    /// returns.
    ///
    /// # Errors
    /// When the server breaks.
    pub async fn run(self, state: web::Data<ServiceState>) -> Result<(), ServeError> {
        let shared = state.clone();
        let server = HttpServer::new(move || {
            App::new()
                .app_data(shared.clone())
                .configure(routes)
                .wrap(from_fn(name_request))
        })
        .on_connect(departure::remember)
        .workers(WORKERS)
        .disable_signals()
        .shutdown_timeout(1)
        .listen(self.listener)?
        .run();
        let handle = server.handle();
        let running = tokio::spawn(server);
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
        handle.stop(true).await;
        let ended = running.await;
        state.store.flush();
        tracing::info!(left = state.active_calls(), "stopped");
        ended.map_err(io::Error::other)?.map_err(ServeError::Io)
    }
}

/// Every address of the service.
pub fn routes(config: &mut web::ServiceConfig) {
    config
        .app_data(web::PayloadConfig::new(MOST_BODY).limit(MOST_BODY))
        .service(
            web::resource("/v1/models")
                .route(web::get().to(openai::models))
                .default_service(web::to(openai::wrong_method)),
        )
        .service(web::resource("/v1/models/{name}").route(web::get().to(openai::model)))
        .service(
            web::resource("/v1/chat/completions")
                .route(web::post().to(openai::chat))
                .default_service(web::to(openai::wrong_method)),
        )
        .service(
            web::resource("/v1/completions")
                .route(web::post().to(openai::complete))
                .default_service(web::to(openai::wrong_method)),
        )
        .route("/health/live", web::get().to(health::live))
        .route("/health/ready", web::get().to(health::ready))
        .route("/manage/status", web::get().to(manage::status))
        .route("/manage/requests", web::get().to(manage::requests))
        .route("/manage/models/{name}/steps", web::get().to(manage::steps))
        .service(
            web::resource("/{file:|assets/.*|[a-z0-9-]+\\.(svg|html|txt|webmanifest)}")
                .guard(guard::Get())
                .to(console::file),
        )
        .default_service(web::to(openai::wrong_address));
}

/// Gives each request a name, the caller's own or a new one, and says it in the answer.
async fn name_request(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let given = request
        .headers()
        .get(REQUEST_ID)
        .and_then(|value| value.to_str().ok())
        .filter(|id| is_name(id));
    let id = given.map_or_else(|| uuid::Uuid::new_v4().simple().to_string(), str::to_owned);
    request.extensions_mut().insert(RequestId(id.clone()));
    let mut response = next.call(request).await?;
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
