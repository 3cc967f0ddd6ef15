//! Who may call what.
//!
//! Every request passes `guard`: the size of its headers, the name of the host it was sent to, the page it comes from. Then
//! it is matched with an address, and `admit` checks the key that this address asks for, takes in the body, and checks the
//! key again if that took time. Limits of a key are looked at when a model is called.

mod admission;
mod body;
pub(crate) mod limits;
pub(crate) mod pace;
pub(crate) mod reach;

pub use admission::Caller;
pub(crate) use admission::{bearer, caller_of, check_again};
pub use body::Body;
pub(crate) use limits::Permit;
pub use reach::Reach;

use crate::http::connection::ConnectionCount;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{HOST, HeaderMap, HeaderName, ORIGIN};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, ResponseError, web};
use std::time::{Duration, Instant};

/// Most bytes of a request's headers.
const MOST_HEADERS: usize = 32 << 10;
/// A body that came in faster than this leaves no time for its key to be revoked.
const AT_ONCE: Duration = Duration::from_millis(1);

/// What an address asks of its caller.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Access {
    /// Nothing: health, the console's files, the description of the interface.
    Nothing,
    /// A key of any scope, unless keys are optional.
    Use,
    /// The operator's socket, a key of scope `manage`, or a session of the console.
    Manage,
}

type Guarded<B> = Result<ServiceResponse<EitherBody<B>>, Error>;

/// Lets a request pass, or answers in its place.
pub(crate) async fn guard<B: MessageBody + 'static>(request: ServiceRequest, next: Next<B>) -> Guarded<B> {
    let state = state_of(&request);
    match check(&state, &request) {
        Ok(()) => next.call(request).await.map(ServiceResponse::map_into_left_body),
        Err(problem) => refuse(&state, request, &problem),
    }
}

/// Lets a request pass to an address that asks for something, or answers in its place. Nobody passes to one that does not say
/// what it asks for.
pub(crate) async fn admit<B: MessageBody + 'static>(
    access: Option<Access>,
    mut request: ServiceRequest,
    next: Next<B>,
) -> Guarded<B> {
    let state = state_of(&request);
    let admitted = match access {
        Some(access) => take_in(&state, access, &mut request).await,
        None => Err(Problem::internal("this address does not say who may call it".into())),
    };
    match admitted {
        Ok(caller) => {
            request.extensions_mut().insert(caller);
            next.call(request).await.map(ServiceResponse::map_into_left_body)
        }
        Err(problem) => refuse(&state, request, &problem),
    }
}

fn state_of(request: &ServiceRequest) -> web::Data<ServiceState> {
    let state = request.app_data::<web::Data<ServiceState>>().cloned();
    state.expect("the service has its state")
}

fn refuse<B: MessageBody + 'static>(state: &ServiceState, request: ServiceRequest, problem: &Problem) -> Guarded<B> {
    state.metrics.nobody.refused(problem.code());
    Ok(request.into_response(problem.error_response()).map_into_right_body())
}

/// Checks the caller, takes in the body, and checks the caller again where that took time.
async fn take_in(state: &ServiceState, access: Access, request: &mut ServiceRequest) -> Result<Caller, Problem> {
    let caller = caller_of(state, request.request(), access).await?;
    if *request.method() != Method::POST {
        return Ok(caller);
    }
    let begun = Instant::now();
    let body = body::receive(state, &caller, request).await?;
    request.extensions_mut().insert(body);
    if begun.elapsed() < AT_ONCE {
        return Ok(caller);
    }
    caller_of(state, request.request(), access).await
}

fn check(state: &ServiceState, request: &ServiceRequest) -> Result<(), Problem> {
    let headers = request.headers();
    let bytes: usize = headers
        .iter()
        .map(|(name, value)| name.as_str().len() + value.len())
        .sum();
    if bytes > MOST_HEADERS {
        return Err(Problem::headers_too_large(bytes, MOST_HEADERS));
    }
    let is_health_check = request.path().starts_with("/health/");
    if request
        .request()
        .conn_data::<ConnectionCount>()
        .is_some_and(|count| count.is_full)
        && !is_health_check
    {
        return Err(Problem::too_many_connections());
    }
    let host = text(headers, HOST).unwrap_or_default();
    let named = [
        Some(host),
        request.uri().authority().map(|authority| authority.as_str()),
    ];
    if let Some(foreign) = named.into_iter().flatten().find(|host| !state.reach.allows_host(host)) {
        return Err(Problem::wrong_host(foreign));
    }
    if let Some(origin) = text(headers, ORIGIN)
        && !state.reach.allows_origin(origin, host)
    {
        return Err(Problem::wrong_origin(origin));
    }
    Ok(())
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
