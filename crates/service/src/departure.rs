//! Has the caller gone?
//!
//! A server that writes nothing for a while would not notice; so the socket itself is watched. A caller who closes only its
//! sending half counts as gone too.

use actix_web::HttpRequest;
use actix_web::dev::Extensions;
use actix_web::rt::net::TcpStream;
use socket2::{SockRef, Socket};
use std::any::Any;
use std::future::pending;
use std::io;
use std::mem::MaybeUninit;
use std::sync::Arc;
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;

/// A second handle on a connection's socket.
#[derive(Clone)]
struct Connection(Arc<Socket>);

/// Keeps a handle on each new connection, for [`departure`].
pub(crate) fn remember(connection: &dyn Any, data: &mut Extensions) {
    if let Some(stream) = connection.downcast_ref::<TcpStream>()
        && let Ok(socket) = SockRef::from(stream).try_clone()
    {
        data.insert(Connection(Arc::new(socket)));
    }
}

/// Returns a future that is ready when the request's caller has closed its connection.
pub(crate) fn departure(request: &HttpRequest) -> impl Future<Output = ()> + 'static {
    let connection = request.conn_data::<Connection>().cloned();
    async move {
        let watched =
            connection.and_then(|Connection(socket)| AsyncFd::register_with_interest(socket, Interest::READABLE).ok());
        let Some(watched) = watched else { return pending().await };
        loop {
            let Ok(mut ready) = watched.readable().await else {
                return;
            };
            let mut byte = [MaybeUninit::uninit()];
            match ready.try_io(|socket| socket.get_ref().peek(&mut byte)) {
                // The other side has closed, or the connection is broken.
                Ok(Ok(0)) => return,
                Ok(Err(error)) if error.kind() != io::ErrorKind::Interrupted => return,
                // The next request lies there already: this caller is still waiting, and there is no more to learn.
                Ok(Ok(_)) => return pending().await,
                Ok(Err(_)) | Err(_) => {}
            }
        }
    }
}
