//! Text and tokens without an answer: what would the model get, how long is it, what do these ids say?

use crate::openai::{Rendered, read_body};
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::web::Bytes;
use actix_web::{Error, HttpResponse, web};
use serde::de::DeserializeOwned;
use vastrelay_serving::Replica;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::parse::parse_body;
use vastrelay_wire::text::{
    CountAnswer, DecodeAnswer, DecodeRequest, EncodeAnswer, EncodeRequest, RenderAnswer, RenderRequest,
};

type Body = Result<Bytes, Error>;

/// `POST /text/render`: a conversation in the words of the model's template, before it is sent.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/render", tag = "text", request_body = RenderRequest, responses(
    (status = 200, body = RenderAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn render(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let request: RenderRequest = read(body)?;
    let replica = &*state.model(&request.model)?;
    let rendered = Rendered::new(replica, request.messages, request.answer_start.unwrap_or(true))?;
    Ok(HttpResponse::Ok().json(RenderAnswer {
        text: rendered.text(),
        token_ids: rendered.encode(replica)?,
    }))
}

/// `POST /text/encode`: a text or a conversation in tokens.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/encode", tag = "text", request_body = EncodeRequest, responses(
    (status = 200, body = EncodeAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn encode(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let request: EncodeRequest = read(body)?;
    let replica = &*state.model(&request.model)?;
    let token_ids = ids(replica, request)?;
    let pieces = replica.tokenizer.pieces();
    let tokens = token_ids
        .iter()
        .map(|id| String::from_utf8_lossy(pieces.bytes(*id)).into_owned())
        .collect();
    Ok(HttpResponse::Ok().json(EncodeAnswer { token_ids, tokens }))
}

/// `POST /text/count`: how long a text or a conversation is, and how much room it leaves.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/count", tag = "text", request_body = EncodeRequest, responses(
    (status = 200, body = CountAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn count(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let request: EncodeRequest = read(body)?;
    let replica = &*state.model(&request.model)?;
    let tokens = ids(replica, request)?.len();
    let context = replica.generate.limits().context;
    Ok(HttpResponse::Ok().json(CountAnswer {
        tokens,
        context,
        left: context.saturating_sub(tokens),
        vocabulary: replica.description.vocabulary,
    }))
}

/// `POST /text/decode`: tokens as text.
///
/// # Errors
/// As an envelope with its status.
#[utoipa::path(post, path = "/text/decode", tag = "text", request_body = DecodeRequest, responses(
    (status = 200, body = DecodeAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn decode(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let request: DecodeRequest = read(body)?;
    let replica = &*state.model(&request.model)?;
    let vocabulary = replica.description.vocabulary;
    if let Some(id) = request.token_ids.iter().find(|id| **id as usize >= vocabulary) {
        let text = format!("`token_ids` holds {id}; token ids from 0 to {} work", vocabulary - 1);
        return Err(Problem::field("token_ids", text));
    }
    let text = replica.tokenizer.pieces().text(&request.token_ids);
    Ok(HttpResponse::Ok().json(DecodeAnswer { text }))
}

fn read<T: DeserializeOwned>(body: Body) -> Result<T, Problem> {
    parse_body(&read_body(body)?).map_err(|error| Problem::body(&error))
}

fn ids(replica: &Replica, request: EncodeRequest) -> Result<Vec<u32>, Problem> {
    match (request.text, request.messages) {
        (Some(text), None) => replica
            .tokenizer
            .encode(&text, true)
            .map_err(|e| Problem::field("text", e.to_string())),
        (None, Some(messages)) => Rendered::new(replica, messages, true)?.encode(replica),
        _ => Err(Problem::field(
            "text",
            "one of `text` and `messages` is wanted, and not both".into(),
        )),
    }
}
