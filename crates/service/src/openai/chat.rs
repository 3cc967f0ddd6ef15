//! `POST /v1/chat/completions`.

use super::answer::{self, Collected, EndExtras, Extras, Shape};
use super::call::{Call, RequestId};
use super::conversation::Rendered;
use super::options::Options;
use super::piece::{Count, chat_logprobs, read_body, stream_response};
use crate::departure::departure;
use crate::problem::Problem;
use crate::state::{ServiceState, seconds_since_1970};
use actix_web::web::Bytes;
use actix_web::{Error, HttpRequest, HttpResponse, web};
use std::sync::Arc;
use vastrelay_engine::GenerationRequest;
use vastrelay_engine::request::Piece;
use vastrelay_serving::Replica;
use vastrelay_wire::chat::{AnswerMessage, ChatAnswer, ChatChoice, ChatPiece, ChatPieceChoice, ChatRequest, Delta};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::parse::parse_body;
use vastrelay_wire::sampling::Usage;

/// Answers a conversation, in the words of the model's own chat template.
///
/// # Errors
/// As an envelope with its status: see [`Problem`].
#[utoipa::path(
    post, path = "/v1/chat/completions", tag = "openai", request_body = ChatRequest,
    responses(
        (status = 200, description = "The answer; as server-sent events of `ChatPiece` when `stream` is true", content(
            (ChatAnswer = "application/json"), (String = "text/event-stream"))),
        (status = "4XX", description = "What was wrong and what would work", body = ErrorEnvelope),
        (status = "5XX", description = "What broke", body = ErrorEnvelope),
    )
)]
pub async fn chat(
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Result<Bytes, Error>,
) -> Result<HttpResponse, Problem> {
    let mut call = Call::begin(&state, &http, "chat")?;
    let (answer, extras, request) = match prepare(&state, &id, body, &mut call) {
        Ok(prepared) => prepared,
        Err(problem) => return Err(call.refuse(problem)),
    };
    let count = Count::new(request.prompt.len(), request.choices);
    let (choices, streamed) = (request.choices, call.is_streamed());
    let events = match call.submit(&answer.replica, vec![request], departure(&http)).await {
        Ok(events) => events,
        Err(problem) => return Err(call.refuse(problem)),
    };
    if streamed {
        return Ok(stream_response(answer::pieces(answer, extras, call, events, count)));
    }
    let (collected, usage) = answer::collect(call, events, choices, count).await?;
    Ok(HttpResponse::Ok().json(answer.whole(collected, usage, extras)))
}

fn prepare(
    state: &ServiceState,
    id: &RequestId,
    body: Result<Bytes, Error>,
    call: &mut Call,
) -> Result<(Answer, Extras, GenerationRequest), Problem> {
    let body = read_body(body)?;
    let request: ChatRequest = parse_body(&body).map_err(|error| Problem::body(&error))?;
    let options = Options::from(&request);
    call.asks(&request.model, options.stream, &body);
    let replica = state.model(&request.model)?;
    refuse_unsupported(&request)?;
    let prompt = Rendered::new(&replica, request.messages, true)?.encode(&replica)?;
    let generation = options.request(&replica, &id.0, prompt, true)?;
    let answer = Answer {
        id: format!("chatcmpl-{}", id.0),
        created: seconds_since_1970(),
        model: request.model,
        choices: options.choices,
        replica,
    };
    Ok((answer, options.extras(), generation))
}

/// Refuses what would change the answer and cannot be done, by name.
fn refuse_unsupported(request: &ChatRequest) -> Result<(), Problem> {
    let refuse = |field: &str, text: &str| Err(Problem::field(field, format!("`{field}` {text}")));
    if request.tools.as_ref().is_some_and(|tools| !tools.is_empty()) {
        return refuse("tools", "is not supported yet; leave it out");
    }
    if request
        .tool_choice
        .as_ref()
        .is_some_and(|choice| choice != "none" && choice != "auto")
    {
        return refuse("tool_choice", "is not supported yet; leave it out");
    }
    if request
        .response_format
        .as_ref()
        .is_some_and(|format| format["type"] != "text")
    {
        return refuse(
            "response_format",
            "of this type is not supported yet; {\"type\": \"text\"} works",
        );
    }
    if request.store == Some(true) {
        return refuse("store", "is true, but answers are not kept for later; false works");
    }
    if request.top_logprobs.is_some() && request.logprobs != Some(true) {
        return refuse("top_logprobs", "needs `logprobs`: true");
    }
    Ok(())
}

/// An answer in the making.
struct Answer {
    id: String,
    created: u64,
    model: String,
    choices: u32,
    replica: Arc<Replica>,
}

impl Answer {
    fn whole(self, collected: Vec<Collected>, usage: Usage, extras: Extras) -> ChatAnswer {
        let choice = |(index, one): (usize, Collected)| ChatChoice {
            index: index as u32,
            logprobs: chat_logprobs(&self.replica, &one.logprobs),
            message: AnswerMessage {
                role: "assistant".into(),
                content: one.text,
                refusal: None,
            },
            finish_reason: one.finish_reason,
            token_ids: extras.token_ids.then_some(one.ids),
            measured: one.measured.filter(|_| extras.measured),
        };
        ChatAnswer {
            id: self.id,
            object: "chat.completion".into(),
            created: self.created,
            model: self.model,
            choices: collected.into_iter().enumerate().map(choice).collect(),
            usage,
        }
    }

    fn one(&self, index: u32, delta: Delta) -> ChatPiece {
        ChatPiece {
            id: self.id.clone(),
            object: "chat.completion.chunk".into(),
            created: self.created,
            model: self.model.clone(),
            choices: vec![ChatPieceChoice {
                index,
                delta,
                logprobs: None,
                finish_reason: None,
                token_ids: None,
                measured: None,
            }],
            usage: None,
        }
    }
}

impl Shape for Answer {
    type Piece = ChatPiece;

    fn opening(&mut self) -> Vec<ChatPiece> {
        let hello = || Delta {
            role: Some("assistant".into()),
            content: Some(String::new()),
        };
        (0..self.choices).map(|index| self.one(index, hello())).collect()
    }

    fn piece(&mut self, new: Piece, extras: Extras) -> Option<ChatPiece> {
        let logprobs = chat_logprobs(&self.replica, &new.logprobs);
        // Nothing to see yet: half a character, or what may become a stop string.
        if new.text.is_empty() && logprobs.is_none() && !extras.token_ids {
            return None;
        }
        let delta = Delta {
            role: None,
            content: Some(new.text),
        };
        let mut piece = self.one(new.choice, delta);
        piece.choices[0].logprobs = logprobs;
        piece.choices[0].token_ids = extras.token_ids.then_some(new.ids);
        Some(piece)
    }

    fn end(&mut self, choice: u32, text: String, finish_reason: String, extras: EndExtras) -> ChatPiece {
        let delta = Delta {
            role: None,
            content: (!text.is_empty()).then_some(text),
        };
        let mut piece = self.one(choice, delta);
        piece.choices[0].finish_reason = Some(finish_reason);
        piece.choices[0].measured = extras.measured;
        piece.choices[0].token_ids = extras.token_ids;
        piece
    }

    fn usage(&mut self, usage: Usage) -> ChatPiece {
        let mut piece = self.one(0, Delta::default());
        piece.choices.clear();
        piece.usage = Some(usage);
        piece
    }
}
