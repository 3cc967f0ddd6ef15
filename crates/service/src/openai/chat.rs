//! `POST /v1/chat/completions`.

use super::call::{Call, RequestId};
use super::options::Options;
use super::piece::{
    COMMENT, Count, DONE, Next, chat_logprobs, error_frame, finish_reason, frame, measured, next, read_body,
};
use crate::departure::departure;
use crate::problem::Problem;
use crate::state::{ServiceState, seconds_since_1970};
use actix_web::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use actix_web::web::Bytes;
use actix_web::{Error, HttpRequest, HttpResponse, web};
use futures_util::stream::{LocalBoxStream, Stream};
use std::sync::Arc;
use vastrelay_engine::{Event, GenerationRequest};
use vastrelay_serving::Replica;
use vastrelay_text::{Message, Tokenizer};
use vastrelay_wire::chat::{
    AnswerMessage, ChatAnswer, ChatChoice, ChatMessage, ChatPiece, ChatPieceChoice, ChatRequest, Content, Delta,
};
use vastrelay_wire::parse::parse_body;

/// Answers a conversation.
///
/// # Errors
/// As an envelope with its status: see [`Problem`].
pub async fn chat(
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Result<Bytes, Error>,
) -> Result<HttpResponse, Problem> {
    let mut call = Call::begin(&state, &id, "chat")?;
    let prepared = prepare(&state, &id, body, &mut call);
    let (asked, replica, request) = match prepared {
        Ok(prepared) => prepared,
        Err(problem) => return Err(call.refuse(problem)),
    };
    let prompt = request.prompt.len();
    let events = match call.submit(&replica, vec![request], departure(&http)).await {
        Ok(events) => events,
        Err(problem) => return Err(call.refuse(problem)),
    };
    let answer = Answer {
        id: format!("chatcmpl-{}", id.0),
        created: seconds_since_1970(),
        asked,
        replica,
        prompt,
    };
    if answer.asked.options.stream {
        return Ok(HttpResponse::Ok()
            .insert_header((CONTENT_TYPE, "text/event-stream"))
            .insert_header((CACHE_CONTROL, "no-cache"))
            .streaming(answer.pieces(call, events)));
    }
    answer
        .whole(call, events)
        .await
        .map(|answer| HttpResponse::Ok().json(answer))
}

/// What was asked, as far as the answer has to know.
struct Asked {
    model: String,
    options: Options,
}

fn prepare(
    state: &ServiceState,
    id: &RequestId,
    body: Result<Bytes, Error>,
    call: &mut Call,
) -> Result<(Asked, Arc<Replica>, GenerationRequest), Problem> {
    let request: ChatRequest = parse_body(&read_body(body)?).map_err(|error| Problem::body(&error))?;
    let options = Options::from(&request);
    call.asks(&request.model, options.stream);
    let replica = state.model(&request.model)?.clone();
    refuse_unsupported(&request)?;
    let template = replica.template.as_ref().ok_or_else(|| {
        Problem::field(
            "messages",
            format!(
                "`{}` has no chat template; POST /v1/completions continues text as it is",
                replica.name
            ),
        )
    })?;
    let messages = request
        .messages
        .into_iter()
        .enumerate()
        .map(|(n, message)| plain(n, message, &replica.tokenizer))
        .collect::<Result<Vec<_>, _>>()?;
    if messages.is_empty() {
        return Err(Problem::field(
            "messages",
            "`messages` is empty; one message or more works".into(),
        ));
    }
    let text = template
        .render(&messages, true)
        .map_err(|e| Problem::field("messages", e.to_string()))?;
    let prompt = replica
        .tokenizer
        .encode_defused(&text)
        .map_err(|e| Problem::field("messages", e.to_string()))?;
    let generation = options.request(&replica, &id.0, prompt, true)?;
    Ok((
        Asked {
            model: request.model,
            options,
        },
        replica,
        generation,
    ))
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

/// Returns a message as templates take it.
fn plain(index: usize, message: ChatMessage, tokenizer: &Tokenizer) -> Result<Message, Problem> {
    let refuse = |field: &str, text: &str| {
        let field = format!("messages[{index}].{field}");
        Err(Problem::field(&field, format!("`{field}` {text}")))
    };
    if message.tool_calls.is_some_and(|calls| !calls.is_empty()) {
        return refuse("tool_calls", "is not supported yet; leave it out");
    }
    if message.refusal.is_some_and(|refusal| !refusal.is_null()) {
        return refuse("refusal", "is not supported; null works");
    }
    let content = message.content.map(Content::into_text).unwrap_or_default();
    Ok(Message {
        role: message.role,
        content: tokenizer.defuse(&content),
    })
}

/// An answer in the making.
struct Answer {
    id: String,
    created: u64,
    asked: Asked,
    replica: Arc<Replica>,
    prompt: usize,
}

impl Answer {
    /// Collects the whole answer.
    async fn whole(self, mut call: Call, mut events: LocalBoxStream<'static, Event>) -> Result<ChatAnswer, Problem> {
        let options = &self.asked.options;
        let mut count = Count {
            prompt: self.prompt,
            ..Count::default()
        };
        let mut choices: Vec<ChatChoice> = (0..options.choices)
            .map(|index| ChatChoice {
                index,
                message: AnswerMessage {
                    role: "assistant".into(),
                    ..AnswerMessage::default()
                },
                logprobs: None,
                finish_reason: String::new(),
                token_ids: options.token_ids.then(Vec::new),
                measured: None,
            })
            .collect();
        loop {
            let event = match next(&mut events).await {
                Next::Event(event) => event,
                Next::Silence => continue,
                Next::End => break,
            };
            call.note(&event);
            match *event {
                Event::Admitted { .. } => {}
                Event::Piece(piece) => {
                    let choice = &mut choices[piece.choice as usize];
                    choice.message.content.push_str(&piece.text);
                    if let Some(ids) = &mut choice.token_ids {
                        ids.extend(&piece.ids);
                    }
                    if let Some(new) = chat_logprobs(&self.replica, &piece.logprobs) {
                        choice.logprobs.get_or_insert_default().content.extend(new.content);
                    }
                }
                Event::Ended {
                    choice,
                    text,
                    reason,
                    figures,
                } => {
                    let choice = &mut choices[choice as usize];
                    choice.message.content.push_str(&text);
                    choice.finish_reason = finish_reason(reason).inspect_err(|problem| call.note_failure(problem))?;
                    choice.measured = options.measured.then(|| measured(reason, &figures));
                    count.output += figures.output_tokens;
                    count.reused = count.reused.max(figures.reused_tokens);
                }
                Event::Failed(reason) => return Err(Problem::internal(reason)),
            }
        }
        Ok(ChatAnswer {
            id: self.id,
            object: "chat.completion".into(),
            created: self.created,
            model: self.asked.model,
            choices,
            usage: count.usage(),
        })
    }

    /// Sends the answer as it comes.
    fn pieces(
        self,
        mut call: Call,
        mut events: LocalBoxStream<'static, Event>,
    ) -> impl Stream<Item = Result<Bytes, Problem>> {
        async_stream::stream! {
            let options = &self.asked.options;
            let mut count = Count { prompt: self.prompt, ..Count::default() };
            for index in 0..options.choices {
                let delta = Delta { role: Some("assistant".into()), content: Some(String::new()) };
                yield Ok(frame(&self.piece(index, delta)));
            }
            loop {
                let event = match next(&mut events).await {
                    Next::Event(event) => event,
                    Next::Silence => {
                        yield Ok(COMMENT);
                        continue;
                    }
                    Next::End => break,
                };
                call.note(&event);
                match *event {
                    Event::Admitted { .. } => {}
                    Event::Piece(new) => {
                        let logprobs = chat_logprobs(&self.replica, &new.logprobs);
                        // Nothing to see yet: half a character, or what may become a stop string.
                        if new.text.is_empty() && logprobs.is_none() && !options.token_ids {
                            continue;
                        }
                        let mut piece = self.piece(new.choice, Delta { role: None, content: Some(new.text) });
                        piece.choices[0].logprobs = logprobs;
                        piece.choices[0].token_ids = options.token_ids.then_some(new.ids);
                        yield Ok(frame(&piece));
                    }
                    Event::Ended { choice, text, reason, figures } => {
                        count.output += figures.output_tokens;
                        count.reused = count.reused.max(figures.reused_tokens);
                        let finish = match finish_reason(reason) {
                            Ok(finish) => finish,
                            Err(problem) => {
                                yield Ok(error_frame(&problem));
                                return;
                            }
                        };
                        let delta = Delta { role: None, content: (!text.is_empty()).then_some(text) };
                        let mut piece = self.piece(choice, delta);
                        piece.choices[0].finish_reason = Some(finish);
                        piece.choices[0].measured = options.measured.then(|| measured(reason, &figures));
                        piece.choices[0].token_ids = options.token_ids.then(Vec::new);
                        yield Ok(frame(&piece));
                    }
                    Event::Failed(reason) => {
                        yield Ok(error_frame(&Problem::internal(reason)));
                        return;
                    }
                }
            }
            if options.usage_at_end {
                let mut piece = self.piece(0, Delta::default());
                piece.choices.clear();
                piece.usage = Some(count.usage());
                yield Ok(frame(&piece));
            }
            yield Ok(DONE);
        }
    }

    fn piece(&self, index: u32, delta: Delta) -> ChatPiece {
        ChatPiece {
            id: self.id.clone(),
            object: "chat.completion.chunk".into(),
            created: self.created,
            model: self.asked.model.clone(),
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
