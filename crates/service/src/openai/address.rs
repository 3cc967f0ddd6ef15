//! Near-miss calls are told the right one.

use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, ResponseError};

/// What there is, with its method.
const ADDRESSES: [(&str, &str); 3] = [
    ("GET", "/v1/models"),
    ("POST", "/v1/chat/completions"),
    ("POST", "/v1/completions"),
];

/// Any call under no known address.
pub async fn wrong_address(request: HttpRequest) -> HttpResponse {
    let path = request.path();
    let message = match ADDRESSES.iter().find(|(_, address)| resembles(path, address)) {
        Some((method, address)) => format!("there is nothing at `{path}`; the call is {method} {address}"),
        None => {
            let known: Vec<String> = ADDRESSES
                .iter()
                .map(|(method, address)| format!("{method} {address}"))
                .collect();
            format!("there is nothing at `{path}`; the calls are {}", known.join(", "))
        }
    };
    Problem::address(StatusCode::NOT_FOUND, message).error_response()
}

/// A known address called with another method.
pub async fn wrong_method(request: HttpRequest) -> HttpResponse {
    let path = request.path();
    let right = ADDRESSES
        .iter()
        .find(|(_, address)| *address == path)
        .map_or("GET", |(method, _)| method);
    let message = format!("`{path}` is called with {right}, not {}", request.method());
    Problem::address(StatusCode::METHOD_NOT_ALLOWED, message).error_response()
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
