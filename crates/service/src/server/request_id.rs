//! Every request has a name and is counted.

use crate::access::redact::redact;
use crate::http::departure::arrival;
use crate::http::state::ServiceState;
use crate::openai::{Arrival, RequestId};
use actix_web::body::{BodySize, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{HeaderName, HeaderValue, X_CONTENT_TYPE_OPTIONS};
use actix_web::http::{ConnectionType, Method, Version};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, web};

/// The header that names a request.
const REQUEST_ID: &str = "x-request-id";

/// Returns a method as a label: names that callers make up are none.
fn method_label(method: &Method) -> &'static str {
    let known = [
        Method::GET,
        Method::HEAD,
        Method::POST,
        Method::PUT,
        Method::PATCH,
        Method::DELETE,
        Method::OPTIONS,
    ];
    let names = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];
    known
        .iter()
        .position(|known| known == method)
        .map_or("other", |place| names[place])
}

/// Gives each request an id of ours, says it in the answer, and counts the answer. An id that the caller gave is kept beside it:
/// callers may give the same one twice, or one that is the beginning of another.
pub(crate) async fn name_request(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let begun = arrival(request.request());
    let given = request
        .headers()
        .get(REQUEST_ID)
        .and_then(|value| value.to_str().ok())
        .filter(|id| is_name(id));
    let given = given.map(|given| redact(given).into_owned());
    let id = uuid::Uuid::new_v4().simple().to_string();
    let named = RequestId { id: id.clone(), given };
    request.extensions_mut().insert(named);
    request.extensions_mut().insert(Arrival(begun));
    let (method, version) = (method_label(request.method()), request.version());
    let state = request.app_data::<web::Data<ServiceState>>().cloned();
    let mut response = next.call(request).await?;
    if let Some(state) = state {
        // Addresses that callers make up are no labels.
        let route = response.request().match_pattern().unwrap_or_default();
        let route = if route.starts_with("/{file") { "console" } else { &route };
        let seconds = begun.elapsed().as_secs_f64();
        state.metrics.http(route, method, response.status().as_u16(), seconds);
    }
    // Callers of HTTP/1.0 do not know chunks; the end of the connection is the end of the answer.
    if version < Version::HTTP_11 && response.response().body().size() == BodySize::Stream {
        let head = response.response_mut().head_mut();
        head.no_chunking(true);
        head.set_connection_type(ConnectionType::Close);
    }
    let headers = response.headers_mut();
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    if let Ok(value) = HeaderValue::from_str(&id) {
        headers.insert(HeaderName::from_static(REQUEST_ID), value);
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
