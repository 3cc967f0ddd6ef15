//! Who may call what.
//!
//! A request passes, in this order: the size of its headers, the name of the host it was sent to, the page it comes from,
//! its key and the key's scope. Limits of a key are looked at when a model is called.

mod limits;
mod reach;

pub(crate) use limits::{KeyLimits, Permit};
pub use reach::Reach;

use crate::keys::{KeyState, PREFIX, find_key, key_state};
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{AUTHORIZATION, HOST, HeaderMap, HeaderName, ORIGIN};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, ResponseError, web};
use std::sync::Arc;
use vastrelay_store::{KeyRecord, Scope, milliseconds_since_1970};

/// Most bytes of a request's headers.
const MOST_HEADERS: usize = 32 << 10;
/// A key's last use is noted again after so many milliseconds.
const USE_NOTED_EVERY: i64 = 5_000;

/// Who calls: the key, where one was given and looked at.
#[derive(Clone, Default)]
pub struct Caller {
    pub(crate) key: Option<Arc<KeyRecord>>,
}

/// Lets a request pass, or answers in its place.
pub(crate) async fn guard<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let state = request.app_data::<web::Data<ServiceState>>().cloned();
    let state = state.expect("the service has its state");
    match check(&state, &request) {
        Ok(caller) => {
            request.extensions_mut().insert(caller);
            next.call(request).await.map(ServiceResponse::map_into_left_body)
        }
        Err(problem) => {
            state.metrics.refused("", problem.code());
            Ok(request.into_response(problem.error_response()).map_into_right_body())
        }
    }
}

fn check(state: &ServiceState, request: &ServiceRequest) -> Result<Caller, Problem> {
    let headers = request.headers();
    let bytes: usize = headers
        .iter()
        .map(|(name, value)| name.as_str().len() + value.len())
        .sum();
    if bytes > MOST_HEADERS {
        return Err(Problem::headers_too_large(bytes, MOST_HEADERS));
    }
    let host = text(headers, HOST).unwrap_or_default();
    if !state.reach.allows_host(host) {
        return Err(Problem::wrong_host(host));
    }
    if let Some(origin) = text(headers, ORIGIN)
        && !state.reach.allows_origin(origin, host)
    {
        return Err(Problem::wrong_origin(origin));
    }
    check_key(state, request)
}

/// What a path asks of its caller.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Asks {
    /// Nothing: health, the console's files, the description of the interface.
    Nothing,
    /// A key of any scope.
    Use,
    /// A key that may manage.
    Manage,
}

impl Asks {
    fn of(path: &str) -> Asks {
        let first = path.split('/').find(|word| !word.is_empty()).unwrap_or_default();
        match first {
            "manage" => Asks::Manage,
            "v1" | "text" | "metrics" => Asks::Use,
            _ => Asks::Nothing,
        }
    }
}

fn check_key(state: &ServiceState, request: &ServiceRequest) -> Result<Caller, Problem> {
    let asks = Asks::of(request.path());
    let bearer = text(request.headers(), AUTHORIZATION).and_then(|value| {
        let (kind, key) = value.split_once(' ')?;
        kind.eq_ignore_ascii_case("bearer").then_some(key.trim())
    });
    // Without keys being asked for, what other programs send as a key is nobody's business; ours are checked all the same.
    let key = bearer.filter(|key| state.reach.wants_key || key.starts_with(PREFIX));
    let Some(key) = key else {
        return match (state.reach.wants_key, asks) {
            (false, _) | (true, Asks::Nothing) => Ok(Caller::default()),
            (true, Asks::Use | Asks::Manage) => Err(Problem::no_key()),
        };
    };
    if asks == Asks::Nothing {
        return Ok(Caller::default());
    }
    let now = milliseconds_since_1970();
    let record = find_key(&state.store, key).map_err(|e| Problem::internal(e.to_string()))?;
    let record = record.ok_or_else(Problem::unknown_key)?;
    match key_state(&record, now) {
        KeyState::Valid => {}
        KeyState::Expired => return Err(Problem::expired_key(&record.name)),
        KeyState::Revoked => return Err(Problem::revoked_key(&record.name)),
    }
    if asks == Asks::Manage && record.scope != Scope::Manage {
        return Err(Problem::scope_missing(&record.name));
    }
    if record.used_ms.is_none_or(|used| now - used > USE_NOTED_EVERY) {
        state.store.key_used(&record.id, now);
    }
    let key = Some(Arc::new(record));
    Ok(Caller { key })
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
