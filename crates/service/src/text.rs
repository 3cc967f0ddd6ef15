//! Templates and tokens, without generating: what would the model get, how long is it, what do these ids say?

use crate::http::guard::limits::KeyLimits;
use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use crate::http::text_threads::{Renderer, TextThreads};
use crate::openai::{Rendered, check_bytes};
use actix_web::{HttpResponse, web};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::sync::Arc;
use vastrelay_control::control_loop::Control;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::parse::parse_body;
use vastrelay_wire::text::{
    CountAnswer, DecodeAnswer, DecodeRequest, EncodeAnswer, EncodeRequest, RenderAnswer, RenderRequest,
};

/// The parts of the service that are used here.
type Parts = (
    web::Data<Control>,
    web::Data<Endpoints>,
    web::Data<TextThreads>,
    web::Data<KeyLimits>,
);

/// `POST /text/render`: renders a conversation with the model's template, without sending it.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/render", tag = "text", request_body = RenderRequest, responses(
    (status = 200, body = RenderAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn render(parts: Parts, caller: web::ReqData<Caller>, body: Body) -> Result<HttpResponse, Problem> {
    answered(&parts, &caller, body, |renderer, endpoints, request: RenderRequest| {
        let endpoint = &*endpoints.called(&request.model)?;
        let rendered = Rendered::new(
            renderer,
            endpoint,
            request.messages,
            request.answer_start.unwrap_or(true),
        )?;
        Ok(RenderAnswer {
            text: rendered.text(),
            token_ids: rendered.encode(endpoint)?,
        })
    })
    .await
}

/// `POST /text/encode`: a text or a conversation in tokens.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/encode", tag = "text", request_body = EncodeRequest, responses(
    (status = 200, body = EncodeAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn encode(parts: Parts, caller: web::ReqData<Caller>, body: Body) -> Result<HttpResponse, Problem> {
    answered(&parts, &caller, body, |renderer, endpoints, request: EncodeRequest| {
        let endpoint = &*endpoints.called(&request.model)?;
        let token_ids = ids(renderer, endpoint, request)?;
        let pieces = endpoint.model.tokenizer.pieces();
        let tokens = token_ids
            .iter()
            .map(|id| String::from_utf8_lossy(pieces.bytes(*id)).into_owned())
            .collect();
        Ok(EncodeAnswer { token_ids, tokens })
    })
    .await
}

/// `POST /text/count`: how long a text or a conversation is, and how much room it leaves.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/count", tag = "text", request_body = EncodeRequest, responses(
    (status = 200, body = CountAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn count(parts: Parts, caller: web::ReqData<Caller>, body: Body) -> Result<HttpResponse, Problem> {
    answered(&parts, &caller, body, |renderer, endpoints, request: EncodeRequest| {
        let endpoint = &*endpoints.called(&request.model)?;
        let tokens = ids(renderer, endpoint, request)?.len();
        let context = endpoint.limits().context;
        Ok(CountAnswer {
            tokens,
            context,
            left: context.saturating_sub(tokens),
            vocabulary: endpoint.model.description.vocabulary,
        })
    })
    .await
}

/// `POST /text/decode`: tokens as text.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/decode", tag = "text", request_body = DecodeRequest, responses(
    (status = 200, body = DecodeAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn decode(parts: Parts, caller: web::ReqData<Caller>, body: Body) -> Result<HttpResponse, Problem> {
    answered(&parts, &caller, body, |_, endpoints, request: DecodeRequest| {
        let endpoint = &*endpoints.called(&request.model)?;
        let (vocabulary, context) = (endpoint.model.description.vocabulary, endpoint.limits().context);
        if request.token_ids.len() > context {
            let text = format!(
                "`token_ids` has {} tokens; the limit is {context}",
                request.token_ids.len()
            );
            return Err(Problem::field("token_ids", text));
        }
        if let Some(id) = request.token_ids.iter().find(|id| **id as usize >= vocabulary) {
            let text = format!(
                "`token_ids` holds token {id}; this model has tokens 0 to {}",
                vocabulary - 1
            );
            return Err(Problem::field("token_ids", text));
        }
        let text = endpoint.model.tokenizer.pieces().text(&request.token_ids);
        Ok(DecodeAnswer { text })
    })
    .await
}

/// The endpoints, as far as a caller knows of them.
struct Seen<'a> {
    endpoints: &'a Endpoints,
    visibility: &'a Visibility,
}

impl Seen<'_> {
    fn called(&self, model: &str) -> Result<Lease, Problem> {
        let endpoint = self.endpoints.called(model, self.visibility, "text work")?;
        endpoint.touch();
        Ok(endpoint)
    }
}

/// Reads a request, answers it on a thread for text, and puts the answer into JSON there. The limits of the caller's key hold
/// here as they do for answers.
async fn answered<T: DeserializeOwned + 'static, A: Serialize + 'static>(
    (control, endpoints, threads, limits): &Parts,
    caller: &Caller,
    body: Body,
    answer: fn(&mut Renderer, Seen<'_>, T) -> Result<A, Problem>,
) -> Result<HttpResponse, Problem> {
    let _permit = caller.permit(limits)?;
    let (bytes, body) = (body.len(), Arc::new(body));
    loop {
        let (endpoints, visibility, body) = (endpoints.clone(), caller.visibility(), body.clone());
        let work = move |renderer: &mut Renderer| {
            let request = parse_body(&body).map_err(|error| Problem::body(&error))?;
            let seen = Seen {
                endpoints: &endpoints,
                visibility: &visibility,
            };
            let answer = answer(renderer, seen, request)?;
            serde_json::to_vec(&answer).map_err(|error| Problem::internal(error.to_string()))
        };
        match threads.run(&caller.key_share().id, bytes, work).await? {
            Ok(json) => return Ok(HttpResponse::Ok().content_type("application/json").body(json)),
            Err(problem) => match problem.is_waited_for() {
                Some(name) => control.wait_for(name, caller.name()).await?,
                None => return Err(problem),
            },
        }
    }
}

fn ids(renderer: &mut Renderer, endpoint: &Endpoint, request: EncodeRequest) -> Result<Vec<u32>, Problem> {
    match (request.text, request.messages) {
        (Some(text), None) => {
            check_bytes(endpoint, "text", text.len())?;
            let encoded = endpoint.model.tokenizer.encode(&text, true);
            encoded.map_err(|e| Problem::field("text", e.to_string()))
        }
        (None, Some(messages)) => Rendered::new(renderer, endpoint, messages, true)?.encode(endpoint),
        _ => Err(Problem::field("text", "send either `text` or `messages`".into())),
    }
}
