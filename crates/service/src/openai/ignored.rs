//! Fields of a request that are not ours: accepted and named in a header, or refused.

use crate::http::problem::Problem;
use actix_web::HttpResponse;
use actix_web::http::header::{HeaderName, HeaderValue};
use vastrelay_wire::chat::{ChatMessage, ChatRequest, MESSAGE_FIELDS};
use vastrelay_wire::completion::CompletionRequest;
use vastrelay_wire::fields::{fields_of, ignorable, unknown_in};

/// Names the fields of a request that were ignored.
const IGNORED: HeaderName = HeaderName::from_static("x-vastrelay-ignored");
/// Most fields of messages that are named.
const MOST_NAMED: usize = 16;

/// Returns the fields of a chat request that are ignored.
///
/// # Errors
/// 400 for a field that is misspelt or would change the answer.
pub(super) fn in_chat(body: &[u8], messages: &[ChatMessage]) -> Result<Vec<String>, Problem> {
    let known = fields_of::<ChatRequest>();
    let mut ignored = ignorable(&unknown_in(body, known), known).map_err(|field| Problem::wrong_field(&field))?;
    let mut in_messages: Vec<String> = Vec::new();
    for message in messages {
        let names = ignorable(&message.unknown, &MESSAGE_FIELDS).map_err(|field| Problem::wrong_field(&field))?;
        for name in names.into_iter().map(|name| format!("messages.{name}")) {
            if in_messages.len() < MOST_NAMED && !in_messages.contains(&name) {
                in_messages.push(name);
            }
        }
    }
    ignored.extend(in_messages);
    Ok(ignored)
}

/// Returns the fields of a completion request that are ignored.
///
/// # Errors
/// 400 for a field that is misspelt or would change the answer.
pub(super) fn in_completion(body: &[u8]) -> Result<Vec<String>, Problem> {
    let known = fields_of::<CompletionRequest>();
    ignorable(&unknown_in(body, known), known).map_err(|field| Problem::wrong_field(&field))
}

/// Names ignored fields in a header.
pub(super) fn log_ignored(response: &mut HttpResponse, ignored: &[String]) {
    if ignored.is_empty() {
        return;
    }
    if let Ok(names) = HeaderValue::from_str(&ignored.join(", ")) {
        response.headers_mut().insert(IGNORED, names);
    }
}
