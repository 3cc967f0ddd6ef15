//! When did a request come, and has its caller gone since?
//!
//! A server that writes nothing for a while would not notice; so the socket itself is watched. A caller who closes only its
//! sending half counts as gone too.

use actix_web::HttpRequest;
use actix_web::dev::Extensions;
use socket2::{SockRef, Socket};
use std::future::pending;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::Interest;
use vastrelay_stamped::{Stamped, Stamps};

/// Time between two looks at a connection on which something lies unread: a pipelined request, or the end of encryption.
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// A second handle on a connection's socket.
#[derive(Clone)]
struct Connection(Arc<Socket>);

/// Prepares each new TCP connection: tokens are sent at once instead of waiting for the caller's acknowledgement of the last
/// ones, and a handle is kept for [`departure`], as are its stamps for [`arrival`].
pub(crate) fn prepare(connection: &Stamped, data: &mut Extensions) {
    data.insert(connection.stamps().clone());
    if let Err(error) = connection.stream().set_nodelay(true) {
        tracing::debug!(%error, "a connection will be slow");
    }
    watch(&SockRef::from(connection.stream()), data);
}

/// Keeps a handle on a new connection for [`departure`].
pub(crate) fn watch(socket: &SockRef<'_>, data: &mut Extensions) {
    if let Ok(socket) = socket.try_clone() {
        data.insert(Connection(Arc::new(socket)));
    }
}

/// Returns when a request whose head has just been read began to arrive at this machine.
pub(crate) fn arrival(request: &HttpRequest) -> Instant {
    request
        .conn_data::<Stamps>()
        .map_or_else(Instant::now, Stamps::first_received)
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
