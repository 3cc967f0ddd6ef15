//! Answers to near-miss addresses name the right one.

use crate::http::declared::{Listed, access_of, listed, resembled};
use crate::http::guard::{Access, caller_of};
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::http::StatusCode;
use actix_web::http::header::ALLOW;
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};

/// Share of letters that a misspelt address has in common with the right one.
const LEAST_ALIKE: f64 = 0.8;
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
        None if !nearly(path).is_empty() => {
            let near: Vec<String> = nearly(path).into_iter().map(calls).collect();
            format!("no such address: {shown}; did you mean {}?", near.join(" or "))
        }
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

/// Returns the addresses that a path is nearly: misspelt by a few letters, or their beginning. Those that manage the service are left out.
fn nearly(path: &str) -> Vec<&'static Listed> {
    let plain = path.trim_end_matches('/').to_lowercase();
    let of_callers = || listed().iter().filter(|address| address.access <= Access::Use);
    let begins = |address: &&Listed| address.path.starts_with(&format!("{plain}/")) && !address.path.contains('{');
    let begun: Vec<&Listed> = of_callers().filter(begins).collect();
    if !plain.is_empty() && plain != "/v1" && !begun.is_empty() {
        return begun;
    }
    let alike = |address: &&Listed| strsim::normalized_damerau_levenshtein(&plain, address.path);
    let best = of_callers().max_by(|a, b| alike(a).total_cmp(&alike(b)));
    best.filter(|address| alike(address) >= LEAST_ALIKE)
        .into_iter()
        .collect()
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
