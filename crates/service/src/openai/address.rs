//! Answers to near-miss addresses name the right one.

use crate::http::declared::{Listed, access_of, listed, resembled};
use crate::http::guard::caller_of;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::http::StatusCode;
use actix_web::http::header::ALLOW;
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};

/// Longest path that a message repeats.
const LONGEST_PATH: usize = 120;

/// Any call to an unknown address. Callers who may not call what it resembles are told no more than that.
///
/// # Errors
/// 401 and 403 as of the address that it resembles.
pub async fn wrong_address(state: web::Data<ServiceState>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let path = request.path();
    caller_of(&state, &request, access_of(path)).await?;
    Err(no_such_address(path))
}

/// Returns the answer to a call of an unknown address.
fn no_such_address(path: &str) -> Problem {
    let shown = shown(path);
    let message = match resembled(path).next() {
        Some(address) => format!("no such address: {shown}; did you mean {}?", calls(address)),
        None => {
            let openai = listed().iter().filter(|address| address.path.starts_with("/v1/"));
            let known: Vec<String> = openai.map(calls).collect();
            format!(
                "no such address: {shown}; OpenAI calls: {}; GET /openapi.json lists all",
                known.join(", ")
            )
        }
    };
    Problem::address(StatusCode::NOT_FOUND, message)
}

/// A known address called with another method.
pub async fn wrong_method(request: HttpRequest) -> HttpResponse {
    let pattern = request.match_pattern().unwrap_or_default();
    let known = listed().iter().find(|address| address.path == pattern);
    let right = known.map(methods).unwrap_or_default();
    let method: String = request.method().as_str().chars().take(20).collect();
    let message = format!("{} does not support {method}; use {right}", shown(request.path()));
    let mut response = Problem::address(StatusCode::METHOD_NOT_ALLOWED, message).error_response();
    if let Ok(value) = right.parse() {
        response.headers_mut().insert(ALLOW, value);
    }
    response
}

fn methods(address: &Listed) -> String {
    let methods: Vec<&str> = address.methods.iter().map(|method| method.as_str()).collect();
    methods.join(", ")
}

/// Returns an address as it is called.
fn calls(address: &Listed) -> String {
    format!("{} {}", methods(address), address.path.replace(":.+}", "}"))
}

fn shown(path: &str) -> String {
    path.chars().take(LONGEST_PATH).collect()
}
