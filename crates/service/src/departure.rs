//! Has the caller gone?
//!
//! A server that writes nothing for a while would not notice; so the socket itself is watched. A caller who closes only its
//! sending half counts as gone too.

use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::HttpRequest;
use actix_web::dev::Extensions;
use actix_web::rt::net::TcpStream;
use socket2::{SockRef, Socket};
use std::any::Any;
use std::future::pending;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::Interest;

/// Time between two looks at a connection on which something lies unread: a pipelined request, or the end of encryption.
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// A second handle on a connection's socket.
#[derive(Clone)]
struct Connection(Arc<Socket>);

/// Prepares each new connection: tokens are sent at once instead of waiting for the caller's acknowledgement of the last
/// ones, and a handle is kept for [`departure`].
pub(crate) fn prepare(connection: &dyn Any, data: &mut Extensions) {
    let encrypted = connection.downcast_ref::<TlsStream<TcpStream>>();
    let stream = encrypted.map(|stream| stream.get_ref().0);
    if let Some(stream) = stream.or(connection.downcast_ref::<TcpStream>()) {
        if let Err(error) = stream.set_nodelay(true) {
            tracing::debug!(%error, "a connection will be slow");
        }
        let Ok(socket) = SockRef::from(stream).try_clone() else {
            return;
        };
        data.insert(Connection(Arc::new(socket)));
    }
}

/// Returns a future that is ready when the request's caller has closed its connection.
pub(crate) fn departure(request: &HttpRequest) -> impl Future<Output = ()> + 'static {
    let connection = request.conn_data::<Connection>().cloned();
    let stream = connection.and_then(|Connection(socket)| {
        let socket = socket.try_clone().ok()?;
        tokio::net::TcpStream::from_std(socket.into()).ok()
    });
    async move {
        let Some(stream) = stream else { return pending().await };
        while let Ok(ready) = stream.ready(Interest::READABLE).await {
            if ready.is_read_closed() {
                return;
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
    }
}
