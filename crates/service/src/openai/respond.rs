//! From a body to an answer: the way that chat and plain completions share.

use super::answer;
use super::answer::Pieces;
use super::asked::Asked;
use super::call::{Call, RequestId};
use super::ignored;
use super::piece::{Count, stream_response, to_json, whole_response};
use super::shape::{Collected, Extras, Shape};
use crate::http::departure::departure;
use crate::http::guard::Body;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use crate::http::text_threads::Renderer;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, web};
use std::sync::Arc;
use std::time::Instant;
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_engine::GenerationRequest;

/// Names the simulated device that answers.
const SIMULATED: HeaderName = HeaderName::from_static("x-vastrelay-simulated");

/// Requests that are ready for the engine, and how their answer is put into words.
pub(super) struct Prepared<S> {
    pub answer: S,
    pub endpoint: Lease,
    pub extras: Extras,
    /// At least one.
    pub requests: Vec<GenerationRequest>,
    /// Most bytes that the answer may take at once.
    pub answer_bytes: usize,
    /// Fields that were ignored.
    pub ignored: Vec<String>,
    /// A header that tells what the caller may not have meant.
    pub note: Option<(HeaderName, HeaderValue)>,
}

/// What a body is prepared with, on a thread for text.
pub(super) struct Preparing<'a> {
    pub state: &'a ServiceState,
    pub renderer: &'a mut Renderer,
    /// The names of the request.
    pub id: &'a RequestId,
    /// The id of the caller's key; empty without one.
    pub key: &'a str,
    /// Keeps the caller's prompts apart from those of others.
    pub cache_scope: &'a str,
    pub body: &'a [u8],
    /// Which endpoints the caller knows of.
    pub visibility: &'a Visibility,
    /// The recorded part of the call, as soon as it is known.
    pub asked: &'a mut Option<Asked>,
}

/// A call that is to be prepared.
struct Asking {
    state: web::Data<ServiceState>,
    id: RequestId,
    key: Arc<str>,
    cache_scope: String,
    visibility: Visibility,
    body: Body,
}

impl Asking {
    /// Prepares it; returns what is recorded of it, too, as far as that is known.
    fn prepare<S>(
        &self,
        renderer: &mut Renderer,
        prepare: fn(Preparing<'_>) -> Result<Prepared<S>, Problem>,
    ) -> (Option<Asked>, Result<Prepared<S>, Problem>) {
        let mut asked = None;
        let prepared = prepare(Preparing {
            state: &self.state,
            renderer,
            id: &self.id,
            key: &self.key,
            cache_scope: &self.cache_scope,
            visibility: &self.visibility,
            body: &self.body,
            asked: &mut asked,
        });
        (asked, prepared)
    }
}

/// Waits until an endpoint has its place that is parked or being started, as long as the caller is.
async fn waited(state: &ServiceState, name: &str, by: &str, http: &HttpRequest) -> Result<(), Problem> {
    tokio::select! {
        waited = state.control.wait_for(name, by) => Ok(waited?),
        () = departure(http) => Err(Problem::half_closed()),
    }
}

/// Answers a call: prepares it where that takes no time from others, submits it, and sends the answer whole or as it comes.
///
/// # Errors
/// As an envelope with its status; the call is recorded as refused or failed.
pub(super) async fn respond<S: Shape + Send + Unpin + 'static>(
    operation: &str,
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Body,
    prepare: fn(Preparing<'_>) -> Result<Prepared<S>, Problem>,
) -> Result<HttpResponse, Problem> {
    let mut call = Call::begin(&state, &http, operation)?;
    let asking = Arc::new(Asking {
        state: state.clone(),
        id: id.into_inner(),
        key: call.key_share().id,
        cache_scope: call.cache_scope(&http),
        visibility: call.visibility().clone(),
        body,
    });
    let prepared = loop {
        let (asking, bytes) = (asking.clone(), asking.body.len());
        let work = move |renderer: &mut Renderer| asking.prepare(renderer, prepare);
        let prepared = state.text_threads.run(&call.key_share().id, bytes, work).await;
        let prepared = prepared.and_then(|(asked, prepared)| {
            asked.into_iter().for_each(|asked| call.asks(asked));
            prepared
        });
        let name = prepared.as_ref().err().and_then(Problem::is_waited_for);
        let Some(name) = name.map(str::to_owned) else {
            break prepared;
        };
        let before = Instant::now();
        let waited = waited(&state, &name, call.caller(), &http).await;
        call.waited_for_start(before.elapsed());
        if let Err(problem) = waited {
            break Err(problem);
        }
    };
    let prepared = prepared.and_then(|prepared| {
        call.reserve(prepared.answer_bytes)?;
        Ok(prepared)
    });
    let prepared = match prepared {
        Ok(prepared) => prepared,
        Err(problem) => return Err(call.refuse(problem)),
    };
    let (ignored, note) = (prepared.ignored.clone(), prepared.note.clone());
    let endpoint = prepared.endpoint.clone();
    let mut response = send(call, prepared, &http).await?;
    ignored::log_ignored(&mut response, &ignored);
    if endpoint.device().is_simulated() {
        let device = HeaderValue::from_str(endpoint.device().name());
        let device = device.unwrap_or(HeaderValue::from_static("device"));
        response.headers_mut().insert(SIMULATED, device);
    }
    if let Some((name, value)) = note {
        response.headers_mut().insert(name, value);
    }
    Ok(response)
}

async fn send<S: Shape + Send + Unpin + 'static>(
    mut call: Call,
    prepared: Prepared<S>,
    http: &HttpRequest,
) -> Result<HttpResponse, Problem> {
    let Prepared {
        answer,
        endpoint,
        extras,
        requests,
        ..
    } = prepared;
    let count = Count::new(requests.iter().map(|r| r.prompt.len()).sum(), requests[0].choices);
    let (choices, streamed) = (requests.iter().map(|r| r.choices).sum(), call.is_streamed());
    let events = match call.submit(&endpoint, requests, departure(http)).await {
        Ok(events) => events,
        Err(problem) => return Err(call.refuse(problem)),
    };
    if streamed {
        return Ok(stream_response(Pieces::new(answer, extras, call, events, count)));
    }
    let running = call.running();
    let (collected, usage) = answer::collect(call, events, choices, count).await?;
    let bytes = collected.iter().map(Collected::bytes).sum();
    let json = to_json(bytes, move || answer.whole(collected, usage, extras)).await?;
    Ok(whole_response(json, running))
}
