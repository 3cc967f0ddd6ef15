//! Bodies of requests: bounded, and dropped when they do not come.

use super::Caller;
use super::pace::STEP;
use crate::http::budget::Share;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::dev::{Decompress, Payload, ServiceRequest};
use actix_web::http::header::{CONTENT_ENCODING, CONTENT_LENGTH, HeaderMap};
use actix_web::web::{Bytes, BytesMut};
use actix_web::{FromRequest, HttpMessage, HttpRequest};
use futures_util::StreamExt;
use std::future::{Ready, ready};
use std::ops::Deref;
use std::time::Duration;
use tokio::time::{Instant, timeout_at};

/// Most bytes of a request's body.
pub(crate) const MOST_BODY: usize = 16 << 20;
/// The first bytes of a body, up to this many, come out of a budget of their own: small bodies are taken in however many large ones
/// are on their way.
const SMALL: usize = 64 << 10;
/// Longest time in which nothing of a body arrives.
const SILENCE: Duration = Duration::from_secs(10);
/// A body takes no longer than this and a second for each `LEAST_RATE` bytes.
const ALLOWANCE: Duration = Duration::from_secs(20);
const LEAST_RATE: usize = 64 << 10;

/// A body that has arrived whole.
pub struct Body {
    bytes: Bytes,
    _shares: [Share; 2],
}

/// Most bytes of a request to manage the service, such as a new key.
const MOST_SMALL: usize = 64 << 10;

impl Body {
    /// Returns the body of a request to manage the service, which is read at once and therefore small.
    ///
    /// # Errors
    /// 413 when it is not.
    pub fn small(&self) -> Result<&[u8], Problem> {
        if self.bytes.len() > MOST_SMALL {
            return Err(Problem::too_large(MOST_SMALL));
        }
        Ok(&self.bytes)
    }
}

impl Deref for Body {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.bytes
    }
}

/// Takes in a request's body; memory is taken for what has arrived, not for what was announced.
///
/// # Errors
/// 413 beyond [`MOST_BODY`], 415 for an encoding that is not known, 408 when it comes too slowly, 503 when too many are on
/// their way, 400 when it cannot be read.
pub(super) async fn receive(
    state: &ServiceState,
    caller: &Caller,
    request: &mut ServiceRequest,
) -> Result<Body, Problem> {
    check_headers(request.headers())?;
    let payload = request.take_payload();
    let mut payload = Decompress::from_headers(payload, request.headers());
    let key = caller.key_share().id;
    let (mut small, mut large) = (state.small_bodies.share(&key), state.bodies.share(&key));
    let mut bytes = BytesMut::new();
    let (begun, mut unpaced) = (Instant::now(), STEP);
    loop {
        let allowed = ALLOWANCE + Duration::from_secs((bytes.len() / LEAST_RATE) as u64);
        let end = (Instant::now() + SILENCE).min(begun + allowed);
        let Ok(next) = timeout_at(end, payload.next()).await else {
            return Err(Problem::slow_body(bytes.len()));
        };
        let Some(part) = next else { break };
        let part = part.map_err(|error| Problem::field("body", format!("the body cannot be read: {error}")))?;
        if bytes.len() + part.len() > MOST_BODY {
            return Err(Problem::too_large(MOST_BODY));
        }
        let of_small = part.len().min(SMALL.saturating_sub(bytes.len()));
        if !small.grow(of_small) || !large.grow(part.len() - of_small) {
            return Err(Problem::too_many_bodies());
        }
        bytes.extend_from_slice(&part);
        if bytes.len() > unpaced {
            unpaced += STEP;
            state.pace.wait().await;
        }
    }
    Ok(Body {
        bytes: bytes.freeze(),
        _shares: [small, large],
    })
}

fn check_headers(headers: &HeaderMap) -> Result<(), Problem> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    if let Some(encoding) = text(CONTENT_ENCODING)
        && !["identity", "gzip", "deflate"].contains(&encoding.trim().to_lowercase().as_str())
    {
        return Err(Problem::unknown_encoding(encoding));
    }
    let announced = text(CONTENT_LENGTH).and_then(|length| length.parse::<u64>().ok());
    match announced {
        Some(length) if length > MOST_BODY as u64 => Err(Problem::too_large(MOST_BODY)),
        _ => Ok(()),
    }
}

/// Takes what `receive` has left with the request.
impl FromRequest for Body {
    type Error = Problem;
    type Future = Ready<Result<Body, Problem>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let body = request.extensions_mut().remove::<Body>();
        ready(body.ok_or_else(|| Problem::field("body", "the request has no body".into())))
    }
}
