//! What chat and plain completions say in the same way.

use super::call::end_name;
use crate::problem::Problem;
use crate::server::MOST_BODY;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::web::Bytes;
use actix_web::{Error, HttpResponse};
use futures_util::stream::{LocalBoxStream, Stream, StreamExt};
use serde::Serialize;
use std::time::Duration;
use vastrelay_engine::request::{Scored, TokenLogprob};
use vastrelay_engine::{EndReason, Event, Figures};
use vastrelay_serving::Replica;
use vastrelay_wire::chat::{ChatLogprob, ChatLogprobs};
use vastrelay_wire::sampling::{Measured, PromptTokensDetails, Usage};
use vastrelay_wire::{chat, error};

/// How long a stream is silent before a comment tells intermediaries that it lives.
pub(super) const KEEP_ALIVE: Duration = Duration::from_secs(10);

/// A comment: clients skip it.
pub(super) const COMMENT: Bytes = Bytes::from_static(b": waiting\n\n");
/// The last frame of a stream.
pub(super) const DONE: Bytes = Bytes::from_static(b"data: [DONE]\n\n");

/// Returns the response that streams frames.
pub(super) fn stream_response(frames: impl Stream<Item = Result<Bytes, Problem>> + 'static) -> HttpResponse {
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .streaming(frames)
}

/// Returns a frame of a stream.
pub(super) fn frame(value: &impl Serialize) -> Bytes {
    let mut bytes = b"data: ".to_vec();
    serde_json::to_writer(&mut bytes, value).expect("wire types are JSON");
    bytes.extend_from_slice(b"\n\n");
    bytes.into()
}

/// Returns the frame that says what broke.
pub(super) fn error_frame(problem: &Problem) -> Bytes {
    let envelope: error::ErrorEnvelope = problem.envelope();
    frame(&envelope)
}

/// Returns the body, or what is wrong with the way it came.
pub(crate) fn read_body(body: Result<Bytes, Error>) -> Result<Bytes, Problem> {
    body.map_err(|error| match error.as_response_error().status_code().as_u16() {
        413 => Problem::too_large(MOST_BODY),
        _ => Problem::field("body", format!("the body cannot be read: {error}")),
    })
}

/// What a stream of events brings next.
pub(super) enum Next {
    /// An event.
    Event(Box<Event>),
    /// Nothing for a while.
    Silence,
    /// All is said.
    End,
}

/// Waits for the next event, but no longer than [`KEEP_ALIVE`].
pub(super) async fn next(events: &mut LocalBoxStream<'static, Event>) -> Next {
    match tokio::time::timeout(KEEP_ALIVE, events.next()).await {
        Ok(Some(event)) => Next::Event(Box::new(event)),
        Ok(None) => Next::End,
        Err(_) => Next::Silence,
    }
}

/// Returns the standard's word for how a completion ended, or the problem when it broke off.
pub(super) fn finish_reason(reason: EndReason) -> Result<String, Problem> {
    match reason {
        EndReason::EndToken | EndReason::StopString => Ok("stop".into()),
        EndReason::Length | EndReason::Deadline => Ok("length".into()),
        EndReason::Cancelled => Err(Problem::internal("the request was cancelled".into())),
        EndReason::SlowReader => Err(Problem::internal(
            "the stream was read too slowly: its buffer was full, so it was ended; read it as it comes".into(),
        )),
    }
}

pub(super) fn measured(reason: EndReason, figures: &Figures) -> Measured {
    Measured {
        queued: figures.queued,
        prefill: figures.prefill,
        ttft: figures.ttft,
        itl_mean: figures.itl_mean,
        itl_max: figures.itl_max,
        total: figures.total,
        prompt_tokens: figures.prompt_tokens,
        reused_tokens: figures.reused_tokens,
        pages_reused: figures.pages_reused,
        output_tokens: figures.output_tokens,
        preemptions: figures.preemptions,
        ended: end_name(reason).into(),
    }
}

/// Token counts of an answer, added up as its completions end.
pub(super) struct Count {
    prompt: usize,
    /// Completions of each prompt.
    pub(super) choices_each: u32,
    pub(super) output: usize,
    /// Tokens reused of each prompt.
    pub(super) reused: Vec<usize>,
}

impl Count {
    /// Begins to count for so many tokens of prompts, with so many completions of each.
    pub fn new(prompt: usize, choices_each: u32) -> Count {
        Count {
            prompt,
            choices_each,
            output: 0,
            reused: Vec::new(),
        }
    }

    pub fn usage(&self) -> Usage {
        Usage {
            prompt_tokens: self.prompt,
            completion_tokens: self.output,
            total_tokens: self.prompt + self.output,
            prompt_tokens_details: PromptTokensDetails {
                cached_tokens: self.reused.iter().sum::<usize>(),
            },
        }
    }
}

/// Returns log-probabilities as chat answers have them; `None` when none were asked for.
pub(super) fn chat_logprobs(replica: &Replica, logprobs: &[Scored]) -> Option<ChatLogprobs> {
    let one = |token: &TokenLogprob| chat::TokenLogprob {
        token: token_text(replica, token.id),
        logprob: token.logprob,
        bytes: replica.tokenizer.pieces().bytes(token.id).to_vec(),
    };
    let both = |(token, top): &Scored| ChatLogprob {
        token: one(token),
        top_logprobs: top.iter().map(one).collect(),
    };
    (!logprobs.is_empty()).then(|| ChatLogprobs {
        content: logprobs.iter().map(both).collect(),
    })
}

/// Returns what a token stands for; bytes that are no character show as U+FFFD.
pub(super) fn token_text(replica: &Replica, id: u32) -> String {
    String::from_utf8_lossy(replica.tokenizer.pieces().bytes(id)).into_owned()
}
