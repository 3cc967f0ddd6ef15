//! Near-miss calls are told the right one.

use crate::openapi::addresses;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::ALLOW;
use actix_web::{HttpRequest, HttpResponse, ResponseError};

/// Any call under no known address.
pub async fn wrong_address(request: HttpRequest) -> HttpResponse {
    let path = request.path();
    let addresses = addresses();
    let message = match addresses.iter().find(|(_, address)| resembles(path, address)) {
        Some((method, address)) => format!("there is nothing at `{path}`; the call is {method} {address}"),
        None => {
            let openai = addresses.iter().filter(|(_, address)| address.starts_with("/v1/"));
            let known: Vec<String> = openai.map(|(method, address)| format!("{method} {address}")).collect();
            format!(
                "there is nothing at `{path}`; the calls of the OpenAI wire are {}; GET /openapi.json describes all",
                known.join(", ")
            )
        }
    };
    Problem::address(StatusCode::NOT_FOUND, message).error_response()
}

/// A known address called with another method.
pub async fn wrong_method(request: HttpRequest) -> HttpResponse {
    let pattern = request.match_pattern().unwrap_or_default();
    let right: Vec<&str> = addresses()
        .into_iter()
        .filter(|(_, address)| *address == pattern)
        .map(|(method, _)| method)
        .collect();
    let right = right.join(", ");
    let message = format!("`{}` is called with {right}, not {}", request.path(), request.method());
    let mut response = Problem::address(StatusCode::METHOD_NOT_ALLOWED, message).error_response();
    if let Ok(value) = right.parse() {
        response.headers_mut().insert(ALLOW, value);
    }
    response
}

/// Whether a path is an address without its prefix, with the prefix twice, or with slashes too many.
fn resembles(path: &str, address: &str) -> bool {
    let words = |path: &str| -> Vec<String> {
        path.split('/')
            .filter(|word| !word.is_empty() && *word != "v1")
            .map(str::to_lowercase)
            .collect()
    };
    words(path) == words(address)
}

#[cfg(test)]
mod tests {
    use super::resembles;

    #[test]
    fn near_misses_resemble_and_others_do_not() {
        for path in [
            "/chat/completions",
            "/v1/v1/chat/completions",
            "/v1//chat/completions/",
            "/V1/chat/completions".to_lowercase().as_str(),
        ] {
            assert!(resembles(path, "/v1/chat/completions"), "{path}");
        }
        assert!(!resembles("/v1/completions", "/v1/chat/completions"));
        assert!(!resembles("/v1/images", "/v1/models"));
    }
}
