//! Connections that know when their bytes arrived and left.

use super::Trust;
use bytes::Bytes;
use http::Uri;
use http_body_util::Full;
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use std::error::Error;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;
use tower_service::Service;
use vastrelay_stamped::Stamped;

/// Longest that a connection waits for another request before a new one is opened instead. Services close idle connections after some
/// seconds, and a request that crosses with that is lost.
const MOST_IDLE: Duration = Duration::from_secs(2);

/// Sends requests; their answers carry the [`vastrelay_stamped::Stamps`] of their connections.
pub(super) type Sender = Client<HttpsConnector<Dial>, Full<Bytes>>;

/// Returns what sends requests, over plain connections and encrypted ones.
///
/// # Errors
/// When a certificate cannot be used.
pub(super) fn sender(trust: Trust) -> Result<Sender, rustls::Error> {
    let mut tcp = HttpConnector::new();
    tcp.enforce_http(false);
    tcp.set_nodelay(true);
    let connector = HttpsConnectorBuilder::new()
        .with_tls_config(trust.config()?)
        .https_or_http()
        .enable_http1()
        .wrap_connector(Dial { tcp });
    Ok(Client::builder(TokioExecutor::new())
        .pool_timer(TokioTimer::new())
        .pool_idle_timeout(MOST_IDLE)
        .build(connector))
}

/// Opens [`Stamped`] connections.
#[derive(Clone)]
pub(super) struct Dial {
    tcp: HttpConnector,
}

impl Service<Uri> for Dial {
    type Response = TokioIo<Stamped>;
    type Error = Box<dyn Error + Send + Sync>;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Self::Error>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        self.tcp.poll_ready(context).map_err(Into::into)
    }

    fn call(&mut self, address: Uri) -> Self::Future {
        let opening = self.tcp.call(address);
        Box::pin(async move { Ok(TokioIo::new(Stamped::new(opening.await?.into_inner())?)) })
    }
}
