//! `POST /v1/completions`.

use super::call::{Call, RequestId};
use super::options::Options;
use super::piece::{
    COMMENT, Count, DONE, Next, error_frame, finish_reason, frame, measured, next, plain_logprobs, read_body,
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
use vastrelay_wire::completion::{CompletionAnswer, CompletionChoice, CompletionRequest, Prompt};
use vastrelay_wire::parse::parse_body;

/// Most prompts in one request.
const MOST_PROMPTS: usize = 64;

/// Continues texts.
///
/// # Errors
/// As an envelope with its status: see [`Problem`].
pub async fn complete(
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Result<Bytes, Error>,
) -> Result<HttpResponse, Problem> {
    let mut call = Call::begin(&state, &id, "completions")?;
    let (answer, requests) = match prepare(&state, &id, body, &mut call) {
        Ok(prepared) => prepared,
        Err(problem) => return Err(call.refuse(problem)),
    };
    let events = match call.submit(&answer.replica, requests, departure(&http)).await {
        Ok(events) => events,
        Err(problem) => return Err(call.refuse(problem)),
    };
    if answer.options.stream {
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

fn prepare(
    state: &ServiceState,
    id: &RequestId,
    body: Result<Bytes, Error>,
    call: &mut Call,
) -> Result<(Answer, Vec<GenerationRequest>), Problem> {
    let request: CompletionRequest = parse_body(&read_body(body)?).map_err(|error| Problem::body(&error))?;
    let options = Options::from(&request);
    call.asks(&request.model, options.stream);
    let replica = state.model(&request.model)?.clone();
    let prompts = encode(&replica, request.prompt)?;
    let tokens = prompts.iter().map(Vec::len).sum();
    let choices = options.choices * prompts.len() as u32;
    let requests = prompts
        .into_iter()
        .map(|prompt| options.request(&replica, &id.0, prompt, false))
        .collect::<Result<Vec<_>, _>>()?;
    let answer = Answer {
        id: format!("cmpl-{}", id.0),
        created: seconds_since_1970(),
        model: request.model,
        options,
        replica,
        choices,
        prompt: tokens,
    };
    Ok((answer, requests))
}

/// Returns the token ids of each prompt; text gets the start token that the model's tokenizer puts before plain text.
fn encode(replica: &Replica, prompt: Prompt) -> Result<Vec<Vec<u32>>, Problem> {
    let text = |text: &String| {
        replica
            .tokenizer
            .encode(text, true)
            .map_err(|e| Problem::field("prompt", e.to_string()))
    };
    let prompts = match prompt {
        Prompt::Text(one) => vec![text(&one)?],
        Prompt::Texts(several) => several.iter().map(text).collect::<Result<_, _>>()?,
        Prompt::Ids(one) => vec![one],
        Prompt::IdLists(several) => several,
    };
    let vocabulary = replica.description.vocabulary;
    if prompts.is_empty() || prompts.len() > MOST_PROMPTS {
        let text = format!("`prompt` holds {} prompts; 1 to {MOST_PROMPTS} work", prompts.len());
        return Err(Problem::field("prompt", text));
    }
    if let Some(id) = prompts.iter().flatten().find(|id| **id as usize >= vocabulary) {
        let text = format!("`prompt` holds token {id}; token ids from 0 to {} work", vocabulary - 1);
        return Err(Problem::field("prompt", text));
    }
    Ok(prompts)
}

/// An answer in the making.
struct Answer {
    id: String,
    created: u64,
    model: String,
    options: Options,
    replica: Arc<Replica>,
    choices: u32,
    prompt: usize,
}

impl Answer {
    /// Collects the whole answer.
    async fn whole(
        self,
        mut call: Call,
        mut events: LocalBoxStream<'static, Event>,
    ) -> Result<CompletionAnswer, Problem> {
        let mut count = Count {
            prompt: self.prompt,
            ..Count::default()
        };
        let mut choices: Vec<CompletionChoice> = (0..self.choices)
            .map(|index| CompletionChoice {
                index,
                token_ids: self.options.token_ids.then(Vec::new),
                ..CompletionChoice::default()
            })
            .collect();
        let mut logprobs = vec![Vec::new(); choices.len()];
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
                    choice.text.push_str(&piece.text);
                    if let Some(ids) = &mut choice.token_ids {
                        ids.extend(&piece.ids);
                    }
                    logprobs[piece.choice as usize].extend(piece.logprobs);
                }
                Event::Ended {
                    choice,
                    text,
                    reason,
                    figures,
                } => {
                    let choice = &mut choices[choice as usize];
                    choice.text.push_str(&text);
                    choice.finish_reason =
                        Some(finish_reason(reason).inspect_err(|problem| call.note_failure(problem))?);
                    choice.measured = self.options.measured.then(|| measured(reason, &figures));
                    count.output += figures.output_tokens;
                    count.reused += figures.reused_tokens;
                }
                Event::Failed(reason) => return Err(Problem::internal(reason)),
            }
        }
        for (choice, logprobs) in choices.iter_mut().zip(&logprobs) {
            choice.logprobs = plain_logprobs(&self.replica, logprobs, 0);
        }
        Ok(self.answer(choices, Some(&count)))
    }

    /// Sends the texts as they come.
    fn pieces(
        self,
        mut call: Call,
        mut events: LocalBoxStream<'static, Event>,
    ) -> impl Stream<Item = Result<Bytes, Problem>> {
        async_stream::stream! {
            let mut count = Count { prompt: self.prompt, ..Count::default() };
            let mut offsets = vec![0; self.choices as usize];
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
                    Event::Piece(piece) => {
                        let offset = &mut offsets[piece.choice as usize];
                        let logprobs = plain_logprobs(&self.replica, &piece.logprobs, *offset);
                        if let Some(lists) = &logprobs {
                            *offset += lists.tokens.iter().map(|token| token.chars().count()).sum::<usize>();
                        }
                        // Nothing to see yet: half a character, or what may become a stop string.
                        if piece.text.is_empty() && logprobs.is_none() && !self.options.token_ids {
                            continue;
                        }
                        let token_ids = self.options.token_ids.then_some(piece.ids);
                        let choice = CompletionChoice { text: piece.text, index: piece.choice, logprobs, token_ids, ..CompletionChoice::default() };
                        yield Ok(frame(&self.answer(vec![choice], None)));
                    }
                    Event::Ended { choice, text, reason, figures } => {
                        count.output += figures.output_tokens;
                        count.reused += figures.reused_tokens;
                        let finish_reason = match finish_reason(reason) {
                            Ok(finish) => Some(finish),
                            Err(problem) => {
                                yield Ok(error_frame(&problem));
                                return;
                            }
                        };
                        let measured = self.options.measured.then(|| measured(reason, &figures));
                        let token_ids = self.options.token_ids.then(Vec::new);
                        let choice = CompletionChoice { text, index: choice, finish_reason, measured, token_ids, logprobs: None };
                        yield Ok(frame(&self.answer(vec![choice], None)));
                    }
                    Event::Failed(reason) => {
                        yield Ok(error_frame(&Problem::internal(reason)));
                        return;
                    }
                }
            }
            if self.options.usage_at_end {
                yield Ok(frame(&self.answer(Vec::new(), Some(&count))));
            }
            yield Ok(DONE);
        }
    }

    fn answer(&self, choices: Vec<CompletionChoice>, count: Option<&Count>) -> CompletionAnswer {
        CompletionAnswer {
            id: self.id.clone(),
            object: "text_completion".into(),
            created: self.created,
            model: self.model.clone(),
            choices,
            usage: count.map(Count::usage),
        }
    }
}
