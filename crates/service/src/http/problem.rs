//! Errors as answers: what is wrong, what the limit is, what works.

use crate::access::keys::KeysUnavailable;
use actix_web::http::StatusCode;
use actix_web::http::header::{RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use std::fmt;
use std::time::Duration;
use vastrelay_control::endpoints::registry::{NotCalled, NotServed};
use vastrelay_control::replicas::state::{NotReady, STOPPED};
use vastrelay_engine::Refusal;
use vastrelay_fleet::State;
use vastrelay_planner::amounts::bytes;
use vastrelay_wire::error::{ErrorBody, ErrorEnvelope};
use vastrelay_wire::fields::WrongField;
use vastrelay_wire::parse::BodyError;

/// The name of an endpoint that is parked.
#[derive(Clone, Debug)]
struct WaitedFor(String);

/// An error on its way to the caller.
#[derive(Clone, Debug)]
pub struct Problem {
    status: StatusCode,
    body: ErrorBody,
    /// Seconds after which it may work.
    retry_after: Option<u32>,
    /// The endpoint that is parked, where it is refused for that.
    waited_for: Option<Box<WaitedFor>>,
    /// Whether the connection is closed after it.
    closes: bool,
}

/// Longest name of a caller's that a message repeats.
const LONGEST_NAME: usize = 80;
/// When to try again to call an endpoint that somebody has to start first.
const REST: Duration = Duration::from_secs(30);

/// Returns a time in whole seconds, one at least.
fn seconds(wait: Duration) -> u32 {
    u32::try_from(wait.as_secs().max(1)).unwrap_or(u32::MAX)
}

/// Returns the beginning of something that a caller sent, for a message.
fn short(text: &str) -> String {
    match text.char_indices().nth(LONGEST_NAME) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

/// Returns names for a message.
fn listed<'a>(names: impl Iterator<Item = &'a String>) -> String {
    let names: Vec<String> = names.map(|name| format!("`{name}`")).collect();
    if names.is_empty() {
        "none".into()
    } else {
        names.join(", ")
    }
}

impl Problem {
    fn new(status: StatusCode, kind: &str, code: &str, message: String) -> Problem {
        let body = ErrorBody {
            message,
            kind: kind.into(),
            param: None,
            code: Some(code.into()),
        };
        Problem {
            status,
            body,
            retry_after: None,
            waited_for: None,
            closes: false,
        }
    }

    /// A field with an invalid value: 400.
    pub fn field(field: &str, message: String) -> Problem {
        let mut problem = Problem::new(
            StatusCode::BAD_REQUEST,
            "invalid_request_error",
            "invalid_value",
            message,
        );
        problem.body.param = Some(field.to_owned());
        problem
    }

    /// A body that is not the expected JSON: 400 with line and column.
    pub fn body(error: &BodyError) -> Problem {
        let mut problem = Problem::new(
            StatusCode::BAD_REQUEST,
            "invalid_request_error",
            "invalid_json",
            error.to_string(),
        );
        problem.body.param = Some(error.path.clone()).filter(|path| !path.is_empty());
        problem
    }

    /// A body that is too large: 413.
    pub fn too_large(limit: usize) -> Problem {
        let message = format!("the body is larger than the limit of {}", bytes(limit));
        Problem::new(
            StatusCode::PAYLOAD_TOO_LARGE,
            "invalid_request_error",
            "body_too_large",
            message,
        )
        .closing()
    }

    /// A model that is not served: 404 with the names that are.
    pub fn unknown_model<'a>(name: &str, known: impl Iterator<Item = &'a String>) -> Problem {
        let known = listed(known);
        let message = format!("there is no model `{}`; models served here: {known}", short(name));
        let mut problem = Problem::new(
            StatusCode::NOT_FOUND,
            "invalid_request_error",
            "model_not_found",
            message,
        );
        problem.body.param = Some("model".into());
        problem
    }

    /// Something that conflicts with the present state: 409.
    pub fn conflict(code: &str, message: String) -> Problem {
        Problem::new(StatusCode::CONFLICT, "invalid_request_error", code, message)
    }

    /// An endpoint that is not there: 404, with those that are.
    pub fn unknown_endpoint<'a>(name: &str, known: impl Iterator<Item = &'a String>) -> Problem {
        let known = listed(known);
        Problem::not_kept(format!(
            "there is no endpoint `{}`; endpoints here: {known}",
            short(name)
        ))
    }

    /// A run that is not kept: 404.
    pub fn no_run(id: &str) -> Problem {
        Problem::not_kept(format!(
            "there is no run `{}`; GET /manage/runs lists all runs",
            short(id)
        ))
    }

    /// Headers that are too large: 431.
    pub fn headers_too_large(bytes: usize, limit: usize) -> Problem {
        let message = format!("the headers have {bytes} bytes; the limit is {limit}");
        Problem::new(
            StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE,
            "invalid_request_error",
            "headers_too_large",
            message,
        )
    }

    /// A request to a name that is not the service's: 403.
    pub fn wrong_host(host: &str) -> Problem {
        let message = format!(
            "this service does not answer to the host name `{}`; use localhost or its address, or allow the name with \
             `vastrelay start --host NAME`",
            short(host)
        );
        Problem::forbidden("host_not_allowed", message)
    }

    /// A request from a page of another origin: 403.
    pub fn wrong_origin(origin: &str) -> Problem {
        let message = format!(
            "pages from `{}` may not call this service; allow them with `vastrelay start --origin URL`",
            short(origin)
        );
        Problem::forbidden("origin_not_allowed", message)
    }

    fn forbidden(code: &str, message: String) -> Problem {
        Problem::new(StatusCode::FORBIDDEN, "permission_error", code, message)
    }

    fn unauthorized(code: &str, message: String) -> Problem {
        Problem::new(StatusCode::UNAUTHORIZED, "authentication_error", code, message)
    }

    /// No key where one is needed: 401.
    pub fn no_key() -> Problem {
        let message = "a key is required: send `Authorization: Bearer KEY`; POST /manage/keys makes one".into();
        Problem::unauthorized("no_key", message)
    }

    /// Managing over TCP without a key or session: 401.
    pub fn no_manager() -> Problem {
        let message =
            "this address needs a key with scope `manage`, sent as `Authorization: Bearer KEY`, or a session of the \
                       console; on the service's machine, `vastrelay` commands of its user need neither, and \
                       `vastrelay console` opens the console"
                .into();
        Problem::unauthorized("no_key", message)
    }

    /// A session of the console that is over, or never was: 401.
    pub fn session_over() -> Problem {
        let message =
            "the console's session is over; `vastrelay console` on the service's machine prints a new link".into();
        Problem::unauthorized("session_over", message)
    }

    /// A code for a session that is unknown, used or too old: 401.
    pub fn code_over() -> Problem {
        let message =
            "this link was used already or is older than two minutes; `vastrelay console` prints a new one".into();
        Problem::unauthorized("code_over", message)
    }

    /// A request with a session from another page than the console's: 403.
    pub fn not_same_origin() -> Problem {
        let message =
            "sessions work only from the console's own pages, over TLS or on loopback; programs send a key".into();
        Problem::forbidden("not_same_origin", message)
    }

    /// A key that was never made here: 401.
    pub fn unknown_key() -> Problem {
        let message = "this key is unknown here; GET /manage/keys lists the keys of this service".into();
        Problem::unauthorized("unknown_key", message)
    }

    /// A key that has ended: 401.
    pub fn expired_key(name: &str) -> Problem {
        let message = format!("the key `{name}` has expired; POST /manage/keys makes a new one");
        Problem::unauthorized("expired_key", message)
    }

    /// A key that was revoked: 401.
    pub fn revoked_key(name: &str) -> Problem {
        let message = format!("the key `{name}` was revoked; ask whoever manages the service for a new one");
        Problem::unauthorized("revoked_key", message)
    }

    /// A key that is good for some endpoints only, where all are told of: 403.
    pub fn key_limited(name: &str) -> Problem {
        let message = format!(
            "the key `{name}` is good for some endpoints only; metrics tell of all of them and need another key"
        );
        Problem::forbidden("key_limited", message)
    }

    /// A key that may call models, where managing is asked for: 403.
    pub fn scope_missing(name: &str) -> Problem {
        let message = format!("the key `{name}` has scope `use`; this address needs a key with scope `manage`");
        Problem::forbidden("scope_missing", message)
    }

    fn too_many(code: &str, message: String, wait: Duration) -> Problem {
        let mut problem = Problem::new(StatusCode::TOO_MANY_REQUESTS, "rate_limit_error", code, message);
        problem.retry_after = Some(seconds(wait));
        problem
    }

    /// More calls at the same time than a key may have: 429.
    pub fn too_many_at_once(name: &str, most: u32) -> Problem {
        let message = format!(
            "the key `{name}` may make {most} calls at the same time, and all are running; try again when one ends"
        );
        Problem::too_many("too_many_at_once", message, Duration::from_secs(1))
    }

    /// More calls a minute than a key may make: 429.
    pub fn too_many_a_minute(name: &str, most: u32, wait: Duration) -> Problem {
        let seconds = wait.as_secs_f64().ceil().max(1.0);
        let message =
            format!("the key `{name}` may make {most} calls a minute and has used them up; try again in {seconds} s");
        Problem::too_many("too_many_a_minute", message, Duration::from_secs_f64(seconds))
    }

    /// Something that is not kept here: 404.
    pub fn not_kept(message: String) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, "invalid_request_error", "not_found", message)
    }

    /// An address that is not one of ours: 404, or 405 for the wrong method, with what would work.
    pub fn address(status: StatusCode, message: String) -> Problem {
        Problem::new(status, "invalid_request_error", "no_such_address", message)
    }

    /// The service is about to stop: 503.
    pub fn draining() -> Problem {
        let message = "the service is shutting down; try again later, or on another service".into();
        let mut problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server_error", "draining", message);
        problem.retry_after = Some(seconds(Duration::from_secs(5)));
        problem
    }

    /// The request waited for the batch as long as the endpoint lets one wait: 503.
    pub fn queue_wait() -> Problem {
        let message = "the request waited in the queue for as long as this endpoint allows (`queue.wait`, `limits.answer`); try again later";
        let mut problem = Problem::unavailable("queue_wait", message);
        problem.retry_after = Some(seconds(Duration::from_secs(5)));
        problem
    }

    pub(crate) fn unavailable(code: &str, message: &str) -> Problem {
        let status = StatusCode::SERVICE_UNAVAILABLE;
        let mut problem = Problem::new(status, "server_error", code, message.into());
        problem.retry_after = Some(seconds(Duration::from_secs(1)));
        problem
    }

    /// Every connection but those for health checks is taken: 503.
    pub fn too_many_connections() -> Problem {
        let message = "the service has as many connections as it can hold; try again in a second";
        Problem::unavailable("too_many_connections", message)
    }

    /// The bodies on their way would take too much memory: 503.
    pub fn too_many_bodies() -> Problem {
        let message = "the service is receiving as many large requests as it can hold; try again in a second";
        Problem::unavailable("too_many_bodies", message)
    }

    /// The answers under way could take too much memory: 503.
    pub fn too_many_answers() -> Problem {
        let message = "the service is producing as many large answers as it can hold; try again in a second";
        Problem::unavailable("too_many_answers", message)
    }

    /// Too many texts wait for templates and tokenizers: 503.
    pub fn text_threads_full() -> Problem {
        let message = "too many prompts are waiting to be tokenized; try again in a second";
        Problem::unavailable("text_threads_full", message)
    }

    /// A key could not be looked up in time: 503.
    pub fn keys_unavailable() -> Problem {
        let message = "the key cannot be checked, because the database does not answer; try again in a second";
        Problem::unavailable("keys_unavailable", message)
    }

    /// The database has too much to do: 503.
    pub fn database_busy() -> Problem {
        let message = "the database is busy; try again in a second";
        Problem::unavailable("database_busy", message)
    }

    /// A body that comes too slowly: 408.
    pub fn slow_body(bytes: usize) -> Problem {
        let message = format!("the body came too slowly: {bytes} bytes arrived before the time limit");
        let status = StatusCode::REQUEST_TIMEOUT;
        Problem::new(status, "invalid_request_error", "slow_body", message).closing()
    }

    /// A body in an encoding that is not known: 415.
    pub fn unknown_encoding(encoding: &str) -> Problem {
        let message = format!(
            "the content-encoding `{}` is not supported; gzip, deflate and identity are",
            short(encoding)
        );
        let status = StatusCode::UNSUPPORTED_MEDIA_TYPE;
        Problem::new(status, "invalid_request_error", "unknown_encoding", message).closing()
    }

    /// A request that the HTTP parser refused.
    pub fn unreadable(status: StatusCode) -> Problem {
        let (code, message) = match status {
            StatusCode::REQUEST_TIMEOUT => ("slow_head", "the request's headers did not arrive within 5 s"),
            StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE => (
                "headers_too_large",
                "the request line and headers are too large; the limit is 32768 bytes",
            ),
            _ => ("invalid_http", "the request is not valid HTTP/1.1"),
        };
        Problem::new(status, "invalid_request_error", code, message.into())
    }

    /// A field that the request does not have, or that is not supported: 400.
    pub fn wrong_field(field: &WrongField) -> Problem {
        let mut problem = Problem::field(&field.name, format!("`{}` {}", field.name, field.reason));
        problem.body.code = Some("unknown_field".into());
        problem
    }

    /// A prompt with more bytes than the context can hold tokens: 400.
    pub fn prompt_too_large(field: &str, bytes: usize, most: usize, context: usize) -> Problem {
        let message = format!(
            "the prompt has {bytes} bytes; this model's context of {context} tokens holds at most {most} bytes"
        );
        let mut problem = Problem::field(field, message);
        problem.body.code = Some("context_length_exceeded".into());
        problem
    }

    /// More completions than the queue can ever hold: 400.
    pub fn too_many_choices(choices: usize, queue: usize) -> Problem {
        let message = format!(
            "the request asks for {choices} completions (prompts × `n`, or × `best_of`); this model's queue holds {queue}"
        );
        Problem::field("n", message)
    }

    /// An answer that could grow too large: 400.
    pub fn answer_too_large(bytes: usize, most: usize) -> Problem {
        let message = format!(
            "the answer could take {:.1} MiB; the limit is {} MiB; ask for fewer prompts, choices, tokens or \
             log-probabilities",
            bytes as f64 / f64::from(1 << 20),
            most >> 20
        );
        let mut problem = Problem::field("max_tokens", message);
        problem.body.code = Some("answer_too_large".into());
        problem
    }

    /// A caller that closed its sending half before the answer: 400.
    pub fn half_closed() -> Problem {
        let message = "the connection was closed for sending before the answer was complete, so the request was \
                       cancelled; keep it open until the answer ends";
        let status = StatusCode::BAD_REQUEST;
        Problem::new(status, "invalid_request_error", "connection_closed", message.into())
    }

    /// An answer that ended without its end: 500.
    pub fn broke_off() -> Problem {
        let message = "the model stopped before the answer was complete; try again, or see `vastrelay status`";
        Problem::internal(message.into())
    }

    /// The model computed something that is not a number: 500.
    pub fn not_finite() -> Problem {
        let message = "the model computed values that are not numbers (NaN), so the answer cannot go on; its weights may \
                       be damaged";
        let mut problem = Problem::internal(message.into());
        problem.body.code = Some("not_finite".into());
        problem
    }

    /// The same, and the connection is closed after it: the rest of the request is not read.
    fn closing(mut self) -> Problem {
        self.closes = true;
        self
    }

    /// A call that ended without its answer: 503 when its endpoint was stopped, else 500.
    pub(crate) fn ended(reason: String) -> Problem {
        if reason == STOPPED {
            return Problem::not_ready(&NotReady::Closed).said(reason);
        }
        Problem::internal(reason)
    }

    /// Something broke on our side: 500.
    pub fn internal(message: String) -> Problem {
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "server_error", "internal", message)
    }

    /// A call that the engine refused; `sizes` are the tokens of each prompt and the most of its answer.
    pub fn refusal(refusal: &Refusal, sizes: &[(usize, usize)]) -> Problem {
        match refusal {
            Refusal::QueueFull { retry_after, .. } => {
                let message = format!("{refusal}; try again in {} s", retry_after.as_secs());
                Problem::too_many("queue_full", message, *retry_after)
            }
            Refusal::TooLong { wanted, limit } => {
                let size = sizes.iter().find(|(prompt, output)| prompt + output == *wanted);
                let (prompt, output) = size.copied().unwrap_or((*wanted, 0));
                Problem::too_long(prompt, output, *limit, ("prompt", "max_tokens"))
            }
            Refusal::Invalid(reason) => Problem::new(
                StatusCode::BAD_REQUEST,
                "invalid_request_error",
                "invalid_request",
                reason.clone(),
            ),
            Refusal::Stopped(_) | Refusal::Lost(_) => Problem::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "server_error",
                "engine_stopped",
                refusal.to_string(),
            ),
        }
    }

    /// An endpoint that is known and not served: 503.
    pub(crate) fn resting(name: &str, state: State, why: &str) -> Problem {
        let next = match state {
            State::Stopped => format!("; POST /manage/endpoints/{name}/start serves it again"),
            _ => String::new(),
        };
        let text = format!("`{name}` is {}: {why}{next}", state.name());
        let code = match state {
            // Its last calls end; it takes no others.
            State::Draining => State::Stopped,
            state => state,
        };
        let mut problem = Problem::unavailable(&format!("endpoint_{}", code.name()), &text);
        problem.retry_after = Some(seconds(REST));
        problem
    }

    /// An endpoint that a call waits for, as it is parked or being started: 503, unless the call waits.
    pub(crate) fn waited_for(name: &str, state: State) -> Problem {
        let why = match state {
            State::Parked => "a call starts it",
            _ => "try again in a second",
        };
        let mut problem = match state {
            State::Starting => Problem::unavailable("starting", &format!("`{name}` is being started; {why}")),
            state => Problem::resting(name, state, why),
        };
        problem.waited_for = Some(Box::new(WaitedFor(name.to_owned())));
        problem
    }

    /// Returns the endpoint that the call would have to wait for.
    pub(crate) fn is_waited_for(&self) -> Option<&str> {
        self.waited_for.as_ref().map(|endpoint| endpoint.0.as_str())
    }

    /// Returns it in other words.
    pub(crate) fn said(mut self, message: String) -> Problem {
        self.body.message = message;
        self
    }

    /// Returns it with more words at the end.
    pub(crate) fn with_detail(mut self, more: &str) -> Problem {
        self.body.message.push_str(more);
        self
    }

    /// An endpoint without a replica that takes requests: 503.
    pub(crate) fn not_ready(why: &NotReady) -> Problem {
        let code = match why {
            NotReady::Stopped(_) => "engine_stopped",
            NotReady::Closed => "endpoint_stopped",
            NotReady::Starting(_) => "starting",
            NotReady::Failed { .. } | NotReady::GivenUp(_) => "endpoint_failed",
        };
        let mut problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server_error", code, why.to_string());
        problem.retry_after = match why {
            NotReady::Failed { retry_after, .. } => Some(seconds(*retry_after)),
            NotReady::Stopped(_) | NotReady::GivenUp(_) => None,
            NotReady::Closed | NotReady::Starting(_) => Some(seconds(REST)),
        };
        problem
    }

    /// A prompt, or a prompt and its answer, that is longer than there is room for: 400 with the numbers. `names` are the
    /// fields that hold the prompt and limit the answer.
    pub fn too_long(prompt: usize, output: usize, limit: usize, names: (&str, &str)) -> Problem {
        let message = if prompt >= limit {
            format!(
                "the prompt has {prompt} tokens; the limit is {}, which leaves one token of this model's {limit} for the answer",
                limit.saturating_sub(1)
            )
        } else {
            format!(
                "the prompt has {prompt} tokens and the answer may have {output}: {} in all; this model's limit is {limit}, \
                 so ask for at most {}",
                prompt + output,
                limit - prompt
            )
        };
        let mut problem = Problem::new(
            StatusCode::BAD_REQUEST,
            "invalid_request_error",
            "context_length_exceeded",
            message,
        );
        problem.body.param = Some(if prompt >= limit { names.0 } else { names.1 }.into());
        problem
    }

    /// Returns the name for programs, for records.
    pub fn code(&self) -> &str {
        self.body.code.as_deref().unwrap_or("error")
    }

    /// Returns the envelope, for a frame of a stream.
    pub fn envelope(&self) -> ErrorEnvelope {
        ErrorEnvelope {
            error: self.body.clone(),
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.body.message)
    }
}

impl std::error::Error for Problem {}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        self.status
    }

    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status);
        if self.status == StatusCode::UNAUTHORIZED {
            response.insert_header((WWW_AUTHENTICATE, "Bearer"));
        }
        if self.closes {
            response.force_close();
        }
        if let Some(wait) = self.retry_after {
            response.insert_header((RETRY_AFTER, wait.to_string()));
        }
        response.json(self.envelope())
    }
}

impl From<KeysUnavailable> for Problem {
    fn from(_: KeysUnavailable) -> Problem {
        Problem::keys_unavailable()
    }
}

impl From<NotServed> for Problem {
    /// 404 with the endpoints there are, or 409 with the state.
    fn from(not_served: NotServed) -> Problem {
        match &not_served {
            NotServed::Unknown { name, known } => Problem::unknown_endpoint(name, known.iter()),
            NotServed::Rests { .. } => Problem::conflict("endpoint_not_served", not_served.to_string()),
        }
    }
}

impl From<NotCalled> for Problem {
    /// 404 with the models that the caller knows, or 503 with the reason.
    fn from(not_called: NotCalled) -> Problem {
        match not_called {
            NotCalled::Unknown { name, known } => Problem::unknown_model(&name, known.iter()),
            NotCalled::Waits { name, state } => Problem::waited_for(&name, state),
            NotCalled::Rests { name, state, why } => Problem::resting(&name, state, &why),
            NotCalled::TooLong(time) => Problem::not_ready(&NotReady::Starting(time)),
            NotCalled::Draining => Problem::draining(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_may_work_later_says_when_and_what_was_not_read_closes_the_connection() {
        for problem in [
            Problem::too_many_connections(),
            Problem::too_many_bodies(),
            Problem::too_many_answers(),
            Problem::text_threads_full(),
            Problem::keys_unavailable(),
            Problem::database_busy(),
            Problem::draining(),
        ] {
            let response = problem.error_response();
            assert_eq!(response.status(), StatusCode::SERVICE_UNAVAILABLE, "{problem}");
            assert!(response.headers().contains_key(RETRY_AFTER), "{problem}");
        }
        for problem in [
            Problem::too_large(16 << 20),
            Problem::slow_body(3),
            Problem::unknown_encoding("br"),
        ] {
            let response = problem.error_response();
            assert!(
                response.head().connection_type() == actix_web::http::ConnectionType::Close,
                "{problem}"
            );
        }
    }

    #[test]
    fn messages_repeat_only_the_beginning_of_what_a_caller_sent() {
        let long = "x".repeat(1 << 20);
        let known = ["pierdesk".to_owned()];
        for problem in [
            Problem::unknown_model(&long, known.iter()),
            Problem::unknown_endpoint(&long, known.iter()),
            Problem::no_run(&long),
            Problem::wrong_host(&long),
            Problem::wrong_origin(&long),
            Problem::unknown_encoding(&long),
        ] {
            assert!(problem.to_string().len() < 400, "{}", problem.code());
        }
    }

    #[test]
    fn a_prompt_that_is_too_long_is_told_by_its_own_fields() {
        let names = ("messages", "max_completion_tokens");
        let prompt = Problem::too_long(130, 0, 128, names).envelope().error;
        assert_eq!(prompt.param.as_deref(), Some("messages"));
        assert!(
            prompt.message.contains("130") && prompt.message.contains("127"),
            "{}",
            prompt.message
        );
        let both = Problem::too_long(100, 50, 128, names).envelope().error;
        assert_eq!(both.param.as_deref(), Some("max_completion_tokens"));
        assert!(both.message.contains("at most 28"), "{}", both.message);
    }
}
