//! The pieces that chat and plain completions have in common.

use super::call::{CallTimes, end_name};
use crate::http::problem::Problem;
use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::web::Bytes;
use futures_util::stream::{self, Stream};
use serde::Serialize;
use std::convert::Infallible;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_engine::token::{TokenLogprob, TokenLogprobs};
use vastrelay_engine::{EndReason, RequestMetrics};
use vastrelay_wire::chat;
use vastrelay_wire::chat::{ChatLogprob, ChatLogprobs};
use vastrelay_wire::sampling::{Measured, PromptTokensDetails, Usage};

/// A comment: clients skip it.
pub(super) const COMMENT: Bytes = Bytes::from_static(b": waiting\n\n");
/// The last frame of a stream.
pub(super) const DONE: Bytes = Bytes::from_static(b"data: [DONE]\n\n");

/// Returns the response that streams frames.
pub(super) fn stream_response(frames: impl Stream<Item = Result<Bytes, Infallible>> + 'static) -> HttpResponse {
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "text/event-stream"))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .streaming(frames)
}

/// Bytes of an answer that are handed to the connection at once.
const SLICE: usize = 64 << 10;

/// Returns the response that sends a whole answer in slices, as the reader takes them; `kept` is dropped when all are sent.
pub(super) fn whole_response<T: 'static>(json: Vec<u8>, kept: T) -> HttpResponse {
    let bytes = Bytes::from(json);
    let length = bytes.len() as u64;
    let slices = stream::unfold((bytes, kept), |(mut rest, kept)| async move {
        let next = rest.split_to(rest.len().min(SLICE));
        (!next.is_empty()).then_some((Ok::<_, Problem>(next), (rest, kept)))
    });
    HttpResponse::Ok()
        .content_type("application/json")
        .body(SizedStream::new(length, slices))
}

/// Answers larger than this are put into JSON on a thread that does not serve HTTP.
const LARGE: usize = 256 << 10;

/// Puts an answer of about this many bytes into JSON.
///
/// # Errors
/// 500 when there is no thread for it.
pub(super) async fn to_json<T: Serialize>(
    bytes: usize,
    answer: impl FnOnce() -> T + Send + 'static,
) -> Result<Vec<u8>, Problem> {
    let put = move || serde_json::to_vec(&answer()).expect("wire types are JSON");
    if bytes <= LARGE {
        return Ok(put());
    }
    actix_web::web::block(put)
        .await
        .map_err(|error| Problem::internal(error.to_string()))
}

/// Returns the standard's word for how a completion ended, or the problem when it broke off.
pub(super) fn finish_reason(reason: EndReason) -> Result<String, Problem> {
    match reason {
        EndReason::EndToken | EndReason::StopString => Ok("stop".into()),
        EndReason::Length | EndReason::Deadline => Ok("length".into()),
        EndReason::Cancelled => Err(Problem::internal("the request was cancelled".into())),
        EndReason::SlowReader => Err(Problem::internal(
            "the stream was ended because its reader was too slow and its buffer was full".into(),
        )),
        EndReason::NotFinite => Err(Problem::not_finite()),
        EndReason::QueueWait => Err(Problem::queue_wait()),
    }
}

/// Returns the figures of a completion. Times from arrival are those of the call's record: the wait for a start is a part of them, and the
/// time to the first token is that of the connection, unless the completion began after another one of the call.
pub(super) fn measured(reason: EndReason, metrics: &RequestMetrics, times: CallTimes) -> Measured {
    let start = times.waiting_for_start;
    let engine_ttft = metrics.ttft + start;
    Measured {
        waiting_for_start: start,
        queued: metrics.queued,
        prefill: metrics.prefill,
        ttft: if metrics.ttft > 0.0 {
            times.ttft.max(engine_ttft)
        } else {
            0.0
        },
        itl_mean: metrics.itl_mean,
        itl_max: metrics.itl_max,
        total: metrics.total + start,
        prompt_tokens: metrics.prompt_tokens,
        reused_tokens: metrics.reused_tokens,
        pages_reused: metrics.pages_reused,
        output_tokens: metrics.output_tokens,
        preemptions: metrics.preemptions,
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
pub(super) fn chat_logprobs(endpoint: &Endpoint, logprobs: &[TokenLogprobs]) -> Option<ChatLogprobs> {
    let one = |token: &TokenLogprob| chat::TokenLogprob {
        token: token_text(endpoint, token.id),
        logprob: token.logprob,
        bytes: endpoint.model.tokenizer.pieces().bytes(token.id).to_vec(),
    };
    let both = |(token, top): &TokenLogprobs| ChatLogprob {
        token: one(token),
        top_logprobs: top.iter().map(one).collect(),
    };
    (!logprobs.is_empty()).then(|| ChatLogprobs {
        content: logprobs.iter().map(both).collect(),
    })
}

/// Returns what a token stands for; bytes that are no character show as U+FFFD.
pub(super) fn token_text(endpoint: &Endpoint, id: u32) -> String {
    String::from_utf8_lossy(endpoint.model.tokenizer.pieces().bytes(id)).into_owned()
}
