//! `POST /v1/chat/completions`.

use super::asked::Asked;
use super::call::RequestId;
use super::conversation::Rendered;
use super::ignored;
use super::options::Options;
use super::piece::chat_logprobs;
use super::respond::{Prepared, Preparing, respond};
use super::shape::{Collected, EndExtras, Extras, Shape};
use super::wrong_body::wrong_body;
use crate::http::guard::Body;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::{HttpRequest, HttpResponse, web};
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_engine::request::Piece;
use vastrelay_store::seconds_since_1970;
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
        (status = "4XX", description = "What is wrong and what works", body = ErrorEnvelope),
        (status = "5XX", description = "What failed", body = ErrorEnvelope),
    )
)]
pub async fn chat(
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Body,
) -> Result<HttpResponse, Problem> {
    respond("chat", state, id, http, body, prepare).await
}

fn prepare(call: Preparing<'_>) -> Result<Prepared<Answer>, Problem> {
    let mut request: ChatRequest = parse_body(call.body).map_err(|error| wrong_body(&call, "chat", &error))?;
    let options = Options::from(&request);
    let messages = std::mem::take(&mut request.messages);
    let asked = call.asked.insert(Asked::new(&request.model, options.stream, &request));
    let ignored = ignored::in_chat(call.body, &messages)?;
    let endpoint = call.state.endpoints.called(&request.model, call.visibility, "a call")?;
    refuse_unsupported(&request)?;
    options.check(&endpoint, 1, call.key)?;
    let kept = call.state.keeps_texts(&endpoint).then(|| messages.clone());
    let prompt = Rendered::new(call.renderer, &endpoint, messages, true)?.encode(&endpoint)?;
    if let Some(messages) = kept {
        asked.keep_prompt(&messages);
    }
    let request_of = options.request(
        &endpoint,
        &call.id.in_steps(),
        prompt,
        call.cache_scope,
        &options.stop_strings(),
    )?;
    let answer = Answer {
        id: format!("chatcmpl-{}", call.id.id),
        created: seconds_since_1970(),
        model: request.model,
        choices: options.choices,
        endpoint: endpoint.clone(),
    };
    Ok(Prepared {
        answer,
        endpoint,
        extras: options.extras(),
        answer_bytes: options.answer_bytes(std::iter::once(0), request_of.most_tokens),
        requests: vec![request_of],
        ignored,
        note: None,
    })
}

/// Refuses by name what would change the answer and is not supported.
fn refuse_unsupported(request: &ChatRequest) -> Result<(), Problem> {
    let refuse = |field: &str, text: &str| Err(Problem::field(field, format!("`{field}` {text}")));
    if request.tools.is_some_and(|tools| tools.0 > 0) {
        return refuse("tools", "is not supported yet; leave it out");
    }
    if request.store == Some(true) {
        return refuse(
            "store",
            "is true, but answers are not stored; send false or leave it out",
        );
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
    endpoint: Lease,
}

impl Answer {
    fn one(&self, index: u32, delta: Delta) -> ChatPiece {
        ChatPiece {
            id: self.id.clone(),
            object: "chat.completion.chunk".into(),
            created: self.created,
            model: self.model.clone(),
            system_fingerprint: self.endpoint.fingerprint(),
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
    type Whole = ChatAnswer;

    fn whole(self, collected: Vec<Collected>, usage: Usage, extras: Extras) -> ChatAnswer {
        let choice = |(index, one): (usize, Collected)| ChatChoice {
            index: index as u32,
            logprobs: chat_logprobs(&self.endpoint, &one.logprobs),
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
            system_fingerprint: self.endpoint.fingerprint(),
            choices: collected.into_iter().enumerate().map(choice).collect(),
            usage,
        }
    }

    fn opening(&mut self) -> Vec<ChatPiece> {
        let hello = || Delta {
            role: Some("assistant".into()),
            content: Some(String::new()),
        };
        (0..self.choices).map(|index| self.one(index, hello())).collect()
    }

    fn plain(&self, choice: u32, text: String) -> ChatPiece {
        let delta = Delta {
            role: None,
            content: Some(text),
        };
        self.one(choice, delta)
    }

    fn piece(&mut self, new: Piece, extras: Extras) -> Option<ChatPiece> {
        let logprobs = chat_logprobs(&self.endpoint, &new.logprobs);
        // Nothing to see yet: half a character, or what may become a stop string.
        if new.text.is_empty() && logprobs.is_none() && !extras.token_ids {
            return None;
        }
        let mut piece = self.plain(new.choice, new.text.into());
        piece.choices[0].logprobs = logprobs;
        piece.choices[0].token_ids = extras.token_ids.then(|| new.ids.to_vec());
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
