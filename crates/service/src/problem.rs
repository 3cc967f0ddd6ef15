//! Errors as answers: what was asked, what the limit is, what would work.

use actix_web::http::StatusCode;
use actix_web::http::header::{RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use std::fmt;
use std::time::Duration;
use vastrelay_engine::Refusal;
use vastrelay_wire::error::{ErrorBody, ErrorEnvelope};
use vastrelay_wire::parse::BodyError;

/// An error on its way to the caller.
#[derive(Clone, Debug)]
pub struct Problem {
    status: StatusCode,
    body: ErrorBody,
    retry_after: Option<Duration>,
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
        }
    }

    /// A field whose value cannot be: 400.
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

    /// A body that is not what was expected: 400 with line and column.
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
        let message = format!("the body is larger than {} MiB, the limit", limit >> 20);
        Problem::new(
            StatusCode::PAYLOAD_TOO_LARGE,
            "invalid_request_error",
            "body_too_large",
            message,
        )
    }

    /// A model that is not served: 404 with the names there are.
    pub fn unknown_model<'a>(name: &str, known: impl Iterator<Item = &'a String>) -> Problem {
        let known: Vec<String> = known.map(|name| format!("`{name}`")).collect();
        let known = if known.is_empty() {
            "none at all".into()
        } else {
            known.join(", ")
        };
        let message = format!("there is no model `{name}` here; the models served are: {known}");
        let mut problem = Problem::new(
            StatusCode::NOT_FOUND,
            "invalid_request_error",
            "model_not_found",
            message,
        );
        problem.body.param = Some("model".into());
        problem
    }

    /// Something that cannot be now, because of how things stand: 409.
    pub fn conflict(code: &str, message: String) -> Problem {
        Problem::new(StatusCode::CONFLICT, "invalid_request_error", code, message)
    }

    /// A run that is not kept: 404.
    pub fn no_run(id: &str) -> Problem {
        Problem::not_kept(format!(
            "there is no run `{id}`; GET /manage/runs lists those there are"
        ))
    }

    /// Headers that are too large: 431.
    pub fn headers_too_large(bytes: usize, limit: usize) -> Problem {
        let message = format!("the headers have {bytes} bytes; up to {limit} work");
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
            "the service does not answer to the name `{host}`; localhost and its addresses work, and names that \
             `vastrelay start --host NAME` allows"
        );
        Problem::forbidden("host_not_allowed", message)
    }

    /// A request from a page of another origin: 403.
    pub fn wrong_origin(origin: &str) -> Problem {
        let message = format!(
            "pages of `{origin}` may not call the service; its own may, and those that `vastrelay start --origin URL` allows"
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
        let message =
            "this service wants a key, as `Authorization: Bearer KEY`; `vastrelay key create` makes one".into();
        Problem::unauthorized("no_key", message)
    }

    /// A key that was never made here: 401.
    pub fn unknown_key() -> Problem {
        let message = "this key is not one of this service's; `vastrelay key list` shows those there are".into();
        Problem::unauthorized("unknown_key", message)
    }

    /// A key that has ended: 401.
    pub fn expired_key(name: &str) -> Problem {
        let message = format!("the key `{name}` has expired; `vastrelay key create` makes a new one");
        Problem::unauthorized("expired_key", message)
    }

    /// A key that was revoked: 401.
    pub fn revoked_key(name: &str) -> Problem {
        let message = format!("the key `{name}` was revoked; whoever manages the service can make another");
        Problem::unauthorized("revoked_key", message)
    }

    /// A key that may call models, where managing is asked for: 403.
    pub fn scope_missing(name: &str) -> Problem {
        let message = format!("the key `{name}` has the scope `use`; this address needs a key of the scope `manage`");
        Problem::forbidden("scope_missing", message)
    }

    fn too_many(code: &str, message: String, wait: Duration) -> Problem {
        let mut problem = Problem::new(StatusCode::TOO_MANY_REQUESTS, "rate_limit_error", code, message);
        problem.retry_after = Some(wait);
        problem
    }

    /// More calls at the same time than a key may have: 429.
    pub fn too_many_at_once(name: &str, most: u32) -> Problem {
        let message =
            format!("the key `{name}` may have {most} calls at the same time and has them; try again when one ends");
        Problem::too_many("too_many_at_once", message, Duration::from_secs(1))
    }

    /// More calls a minute than a key may make: 429.
    pub fn too_many_a_minute(name: &str, most: u32, wait: Duration) -> Problem {
        let seconds = wait.as_secs_f64().ceil().max(1.0);
        let message =
            format!("the key `{name}` may make {most} calls a minute and has made them; try again in {seconds} s");
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
        let message = "the service is draining before it stops; send the request elsewhere or again later".into();
        let mut problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server_error", "draining", message);
        problem.retry_after = Some(Duration::from_secs(5));
        problem
    }

    /// Something broke on our side: 500.
    pub fn internal(message: String) -> Problem {
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "server_error", "internal", message)
    }

    /// A request that the engine refused.
    pub fn refusal(refusal: &Refusal, prompt_tokens: usize) -> Problem {
        match refusal {
            Refusal::QueueFull { retry_after, .. } => {
                let message = format!("{refusal}; try again in {} s", retry_after.as_secs());
                Problem::too_many("queue_full", message, *retry_after)
            }
            Refusal::TooLong { wanted, limit } => Problem::too_long(prompt_tokens, wanted - prompt_tokens, *limit),
            Refusal::Stopped(_) => Problem::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "server_error",
                "engine_stopped",
                refusal.to_string(),
            ),
        }
    }

    /// A prompt, or a prompt and its answer, that is longer than there is room for: 400 with the numbers.
    pub fn too_long(prompt: usize, output: usize, limit: usize) -> Problem {
        let message = if prompt >= limit {
            format!(
                "the prompt has {prompt} tokens; this model takes {limit} with at least one for the answer, so {} at most",
                limit - 1
            )
        } else {
            format!(
                "the prompt has {prompt} tokens and {output} were asked for, {} together; this model takes {limit}, so \
                 at most {} can be asked for",
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
        problem.body.param = Some(if prompt >= limit { "messages" } else { "max_tokens" }.into());
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
        if let Some(wait) = self.retry_after {
            response.insert_header((RETRY_AFTER, wait.as_secs().max(1).to_string()));
        }
        response.json(self.envelope())
    }
}
