//! Errors about bodies that could not be read, in the words of the call.

use super::respond::Preparing;
use crate::http::problem::Problem;
use serde_json::{Map, Value};
use vastrelay_wire::parse::BodyError;

/// Returns the problem of a body that is no request: a missing model names the models, and what belongs to the other call names that.
pub(super) fn wrong_body(call: &Preparing<'_>, operation: &str, error: &BodyError) -> Problem {
    let fields: Map<String, Value> = serde_json::from_slice(call.body).unwrap_or_default();
    let has = |field: &str| fields.contains_key(field);
    if error.reason == "missing field `messages`" && has("prompt") {
        let text = "`prompt` belongs to POST /v1/completions; a chat has `messages`: [{\"role\": \"user\", \"content\": \"…\"}]";
        return Problem::field("prompt", text.into());
    }
    if error.reason == "missing field `prompt`" && has("messages") {
        let text = "`messages` belongs to POST /v1/chat/completions; this call continues a `prompt`";
        return Problem::field("messages", text.into());
    }
    if error.reason == "missing field `model`" {
        let all = call.state.endpoints.all();
        let names: Vec<&str> = all
            .iter()
            .map(|one| one.name.as_str())
            .filter(|name| call.visibility.has(name))
            .collect();
        let names = if names.is_empty() {
            "none yet".into()
        } else {
            names.join(", ")
        };
        return Problem::field("model", format!("`model` is missing; models served here: {names}"));
    }
    if error.reason == "missing field `messages`" && operation == "chat" {
        let text = "`messages` is missing; write [{\"role\": \"user\", \"content\": \"…\"}]";
        return Problem::field("messages", text.into());
    }
    if error.path.starts_with("response_format") {
        let text = "`response_format` is {\"type\": \"text\"} or left out; answers are plain text";
        return Problem::field("response_format", text.into());
    }
    Problem::body(error)
}
