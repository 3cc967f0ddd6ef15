//! Listening: the addresses with what each asks of its caller, TLS, the loops beside the calls, and how the service ends.
//!
//! The handlers of an address belong in the room of its subject.

mod background;
pub mod console_files;
pub mod health;
mod listener;
pub mod openapi;
mod request_id;
pub mod routes;
mod sampler;
mod scrape;
mod summary;
mod tls;

use crate::access::keys::has_valid_key;
use crate::access::operator::{OperatorSocket, OperatorSocketError, RuntimePlaces};
use crate::http::state::ServiceState;
use crate::server::tls::{Tls, TlsError};
use actix_web::web;
use reqwest::Url;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use vastrelay_store::{Store, StoreError};

/// How long requests may take to end after the service was told to stop.
const DRAIN_LIMIT: Duration = Duration::from_secs(60);
/// How long the service's own load test may take to save what it has measured.
const LOAD_LIMIT: Duration = Duration::from_secs(5);
/// How long the errors of calls may take that did not end by then.
const ANSWER_LIMIT: Duration = Duration::from_secs(2);

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
        "{address} is reachable from other machines, but the service has no key; create one with \
         `vastrelay key create --data DIR --name NAME --scope manage`, or listen on 127.0.0.1"
    )]
    NoKey {
        /// The address.
        address: SocketAddr,
    },
    /// An address does not declare who may call it.
    #[error("the address {path} does not declare who may call it; this is a fault in the program")]
    Undeclared {
        /// The address.
        path: &'static str,
    },
    /// The certificate cannot be used.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The operator's socket cannot be opened.
    #[error(transparent)]
    Operator(#[from] OperatorSocketError),
    /// The database cannot be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The server broke.
    #[error("the server failed: {0}")]
    Io(#[from] io::Error),
}

/// How a service serves.
#[derive(Clone, Debug, Default)]
pub struct ServeOptions {
    /// Certificate chain and private key, as PEM files; without, it speaks plain HTTP.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// How often a line in the log sums up what was done; never when absent.
    pub summary: Option<Duration>,
    /// What is told when an endpoint becomes ready or fails.
    pub tell: Option<Url>,
}

/// A service that listens.
pub struct Server {
    listener: TcpListener,
    address: SocketAddr,
    tls: Option<Tls>,
    operators: Option<(OperatorSocket, UnixListener)>,
    summary: Option<Duration>,
    tell: Option<Url>,
}

impl Server {
    /// Takes an address; port 0 takes a free one.
    ///
    /// # Errors
    /// When it cannot be had, or the certificate cannot be used.
    pub fn bind(address: SocketAddr, options: &ServeOptions) -> Result<Server, ServeError> {
        routes::check().map_err(|path| ServeError::Undeclared { path })?;
        routes::declare();
        let tls = options.tls.as_ref();
        let tls = tls.map(|(certificate, key)| Tls::read(certificate, key)).transpose()?;
        let listener = TcpListener::bind(address).map_err(|source| ServeError::Listen { address, source })?;
        let address = listener.local_addr()?;
        Ok(Server {
            listener,
            address,
            tls,
            operators: None,
            summary: options.summary,
            tell: options.tell.clone(),
        })
    }

    /// Opens the socket over which its own user manages it without a key. The caller holds the lock of the data folder.
    ///
    /// # Errors
    /// When the runtime folder cannot be used by this user alone.
    pub fn open_to_operator(&mut self, data: &Path, places: &RuntimePlaces) -> Result<(), ServeError> {
        self.operators = Some(OperatorSocket::open(data, self.address, places)?);
        Ok(())
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

    /// Serves until SIGTERM, SIGINT or SIGHUP; then refuses new requests, lets the others end,
    /// and returns; so too when [`crate::lifecycle::run::ServiceRun::stop`] is called. `ready` is called once the service takes calls and signals.
    ///
    /// # Errors
    /// When the server breaks.
    pub async fn run(self, state: web::Data<ServiceState>, ready: impl FnOnce()) -> Result<(), ServeError> {
        let url = self.url();
        let (_socket, operators) = self.operators.unzip();
        let server = listener::serve(self.listener, operators, self.tls.as_ref(), state.clone())?;
        let handle = server.handle();
        let running = tokio::spawn(server);
        let loops = background::start(&state, self.summary, self.tell);
        let mut signals = Signals::new()?;
        tracing::info!(url, "listening");
        ready();
        tokio::select! {
            () = signals.next() => {}
            () = state.service_run.stopped() => {}
        }
        state.service_run.drain();
        // Calls that wait for an endpoint without a replica would wait in vain.
        state.endpoints.drain();
        // Its own load test would keep it busy for as long as it may take to drain.
        state.load_tests.stop();
        tracing::info!(active = state.service_run.active_calls(), "draining");
        tokio::select! {
            () = drained(&state) => {}
            // A second signal means that the user does not want to wait.
            () = signals.next() => tracing::warn!(left = state.service_run.active_calls(), "told to stop again: not waiting"),
        }
        // Calls that still wait get an error instead of a closed connection.
        state
            .endpoints
            .all()
            .iter()
            .for_each(|endpoint| endpoint.replicas.close());
        answered(&state).await;
        drop(loops);
        handle.stop(true).await;
        let ended = running.await;
        state.load_tests.wait_for_end(LOAD_LIMIT).await;
        let flushed = state.clone();
        let _ = web::block(move || flushed.records.store.flush()).await;
        tracing::info!(left = state.service_run.active_calls(), "stopped");
        ended.map_err(io::Error::other)?.map_err(ServeError::Io)
    }
}

/// The signals that tell the service to stop.
struct Signals([tokio::signal::unix::Signal; 3]);

impl Signals {
    fn new() -> io::Result<Signals> {
        let [terminate, interrupt, hangup] = [SignalKind::terminate(), SignalKind::interrupt(), SignalKind::hangup()];
        Ok(Signals([signal(terminate)?, signal(interrupt)?, signal(hangup)?]))
    }

    async fn next(&mut self) {
        let [terminate, interrupt, hangup] = &mut self.0;
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
            _ = hangup.recv() => {}
        }
    }
}

/// Waits until every call has ended, but no longer than [`DRAIN_LIMIT`].
async fn drained(state: &ServiceState) {
    ended_within(state, DRAIN_LIMIT).await;
}

/// Waits until calls that cannot go on have their error, but no longer than [`ANSWER_LIMIT`].
async fn answered(state: &ServiceState) {
    ended_within(state, ANSWER_LIMIT).await;
}

async fn ended_within(state: &ServiceState, limit: Duration) {
    let begun = Instant::now();
    while state.service_run.active_calls() > 0 && begun.elapsed() < limit {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
