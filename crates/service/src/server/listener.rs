//! From a connection to a request.
//!
//! Connections are [`Stamped`], so that a request counts from its arrival at this machine and not from the moment at which a
//! worker had time for it.

use crate::access::operator::Operator;
use crate::access::sessions::secret;
use crate::http::connection::{Connections, WatchedConnection, raise_file_limit};
use crate::http::departure;
use crate::http::guard::{Reach, guard};
use crate::http::own_address::OwnAddress;
use crate::http::state::ServiceState;
use crate::server::request_id::name_request;
use crate::server::routes::routes;
use crate::server::tls::Tls;
use actix_cors::Cors;
use actix_http::error::DispatchError;
use actix_http::{HttpService, Protocol};
use actix_service::{IntoServiceFactory, ServiceFactory, ServiceFactoryExt, map_config};
use actix_web::dev::{AppConfig, Extensions, Server, fn_service};
use actix_web::middleware::{Condition, from_fn};
use actix_web::rt::net::{TcpStream, UnixStream};
use actix_web::{App, Error, web};
use socket2::SockRef;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::os::unix::net::UnixListener;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use vastrelay_stamped::{Stamped, stamp_arrivals};

/// Connections that may wait to be accepted while all threads are busy: a caller beyond them waits a second for its next try.
const MOST_UNACCEPTED: i32 = 1024;
/// Most connections over the operator's socket.
const MOST_OPERATORS: usize = 256;
/// Threads that serve HTTP.
const WORKERS: usize = 2;
/// How long a caller may take to agree on encryption, and how long to send a request's head.
const LONGEST_WAIT: Duration = Duration::from_secs(5);
/// How long a connection is kept open for another request: longer than clients with pools keep theirs, so that it is they who
/// close it and no request crosses with the end.
const IDLE: Duration = Duration::from_secs(90);
/// How long a connection may take to close after the last answer.
const FAREWELL: Duration = Duration::from_secs(1);
/// Seconds for what is under way when the server is stopped for good.
const LAST_SECONDS: u64 = 1;

/// Begins to serve connections.
///
/// # Errors
/// What the system says.
pub(crate) fn serve(
    listener: TcpListener,
    operators: Option<UnixListener>,
    tls: Option<&Tls>,
    state: web::Data<ServiceState>,
) -> io::Result<Server> {
    stamp_arrivals(&listener)?;
    SockRef::from(&listener).listen(MOST_UNACCEPTED)?;
    let own = web::Data::new(OwnAddress {
        socket: listener.local_addr()?,
        certificate: tls.map(|tls| tls.certificate.clone()),
        token: secret().map_err(io::Error::other)?,
    });
    let builder = Server::build()
        .workers(WORKERS)
        .disable_signals()
        .shutdown_timeout(LAST_SECONDS);
    let termination = builder.graceful_shutdown_signal();
    let termination = move || {
        let termination = termination.clone();
        async move { termination.notified().await }
    };
    let connections = Connections::new(raise_file_limit());
    let builder = match operators {
        None => builder,
        Some(operators) => {
            let connections = Connections::new(MOST_OPERATORS);
            let (state, own, termination) = (state.clone(), own.clone(), termination.clone());
            builder.listen_uds("operators", operators, move || {
                let connections = connections.clone();
                fn_service(move |stream| local(connections.clone(), stream)).and_then(requests(
                    prepare_local,
                    state.clone(),
                    own.clone(),
                    termination.clone(),
                ))
            })?
        }
    };
    let builder = match tls.map(|tls| TlsAcceptor::from(tls.config.clone())) {
        None => builder.listen("http", listener, move || {
            let connections = connections.clone();
            fn_service(move |stream| plain(connections.clone(), stream)).and_then(requests(
                departure::prepare,
                state.clone(),
                own.clone(),
                termination.clone(),
            ))
        }),
        Some(acceptor) => builder.listen("https", listener, move || {
            let (acceptor, connections) = (acceptor.clone(), connections.clone());
            fn_service(move |stream| encrypted(acceptor.clone(), connections.clone(), stream)).and_then(requests(
                |stream: &TlsStream<Stamped>, data: &mut Extensions| departure::prepare(stream.get_ref().0, data),
                state.clone(),
                own.clone(),
                termination.clone(),
            ))
        }),
    };
    Ok(builder?.run())
}

/// A connection as HTTP is spoken on it: the protocol, and who calls.
type Spoken<T> = (WatchedConnection<T>, Protocol, Option<SocketAddr>);

async fn plain(connections: Connections, stream: TcpStream) -> Result<Spoken<Stamped>, DispatchError> {
    let place = connections.enter()?;
    let caller = stream.peer_addr().ok();
    Ok((
        WatchedConnection::new(Stamped::new(stream)?, place),
        Protocol::Http1,
        caller,
    ))
}

async fn encrypted(
    acceptor: TlsAcceptor,
    connections: Connections,
    stream: TcpStream,
) -> Result<Spoken<TlsStream<Stamped>>, DispatchError> {
    let place = connections.enter()?;
    let caller = stream.peer_addr().ok();
    let agreed = timeout(LONGEST_WAIT, acceptor.accept(Stamped::new(stream)?)).await;
    let stream = agreed.map_err(|_| DispatchError::SlowRequestTimeout)??;
    Ok((WatchedConnection::new(stream, place), Protocol::Http1, caller))
}

/// Takes a connection over the operator's socket; other users than the service's own and root do not get one.
async fn local(connections: Connections, stream: UnixStream) -> Result<Spoken<UnixStream>, DispatchError> {
    let place = connections.enter()?;
    if Operator::of(&stream).is_none() {
        let refused = io::Error::new(
            io::ErrorKind::PermissionDenied,
            "another user connected to the management socket",
        );
        return Err(refused.into());
    }
    Ok((WatchedConnection::new(stream, place), Protocol::Http1, None))
}

fn prepare_local(stream: &UnixStream, data: &mut Extensions) {
    departure::watch(&SockRef::from(stream), data);
    if let Some(operator) = Operator::of(stream) {
        data.insert(operator);
    }
}

/// Returns what answers the requests of a connection; `prepare` tells them what they need to know of it.
fn requests<T, E>(
    prepare: fn(&T, &mut Extensions),
    state: web::Data<ServiceState>,
    own: web::Data<OwnAddress>,
    termination: impl Fn() -> E + 'static,
) -> impl ServiceFactory<Spoken<T>, Config = (), Response = (), Error = DispatchError, InitError = ()>
where
    T: AsyncRead + AsyncWrite + Unpin + 'static,
    E: Future<Output = ()> + 'static,
{
    let app = App::new()
        .app_data(state.clone())
        .app_data(own)
        .configure(|config| state.lend(config))
        .configure(routes)
        .wrap(from_fn(guard))
        .wrap(Condition::new(!state.reach.origins().is_empty(), cors(&state.reach)))
        .wrap(from_fn(name_request));
    let app = app.into_factory().map_err(|error: Error| error.error_response());
    HttpService::build()
        .client_request_timeout(LONGEST_WAIT)
        .keep_alive(IDLE)
        .client_disconnect_timeout(FAREWELL)
        .graceful_shutdown_signal(termination)
        .on_connect_ext(move |connection: &WatchedConnection<T>, data| {
            data.insert(connection.count());
            prepare(connection.inner(), data);
        })
        .finish(map_config(app, |()| AppConfig::default()))
}

/// Lets pages of the named origins call and read the answers.
fn cors(reach: &Reach) -> Cors {
    let cors = Cors::default().allow_any_method().allow_any_header().max_age(600);
    reach
        .origins()
        .iter()
        .fold(cors, |cors, origin| cors.allowed_origin(origin))
}
