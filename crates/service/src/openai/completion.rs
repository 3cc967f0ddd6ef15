//! `POST /v1/completions`.

use super::asked::Asked;
use super::call::RequestId;
use super::check_bytes;
use super::ignored;
use super::options::Options;
use super::plain_logprobs::{of_answer, of_prompt};
use super::respond::{Prepared, Preparing, respond};
use super::shape::{Collected, EndExtras, Extras, Shape};
use super::wrong_body::wrong_body;
use crate::http::guard::Body;
use crate::http::problem::Problem;
use crate::http::state::ServiceState;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, web};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_engine::GenerationRequest;
use vastrelay_engine::request::Piece;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_fleet::Mode;
use vastrelay_store::seconds_since_1970;
use vastrelay_wire::completion::{CompletionAnswer, CompletionChoice, CompletionRequest, Prompt};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::parse::parse_body;
use vastrelay_wire::sampling::Usage;

/// Tells what a caller may not have meant; the answer is as asked for.
const NOTE: HeaderName = HeaderName::from_static("x-vastrelay-note");
const UNTEMPLATED: HeaderValue = HeaderValue::from_static(
    "this model was tuned for chat, but the prompt has none of its template's control tokens; POST /v1/chat/completions \
     applies the template, POST /text/render shows it",
);

/// Continues texts as they are: no template is applied.
///
/// # Errors
/// As an envelope with its status: see [`Problem`].
#[utoipa::path(
    post, path = "/v1/completions", tag = "openai", request_body = CompletionRequest,
    responses(
        (status = 200, description = "The texts; as server-sent events of the same type when `stream` is true. The header \
            `x-vastrelay-note` tells when a model tuned for chat got text without its template", content(
            (CompletionAnswer = "application/json"), (String = "text/event-stream"))),
        (status = "4XX", description = "What is wrong and what works", body = ErrorEnvelope),
        (status = "5XX", description = "What failed", body = ErrorEnvelope),
    )
)]
pub async fn complete(
    state: web::Data<ServiceState>,
    id: web::ReqData<RequestId>,
    http: HttpRequest,
    body: Body,
) -> Result<HttpResponse, Problem> {
    respond("completions", state, id, http, body, prepare).await
}

/// Whether a model with a template gets a prompt in which none of its control tokens stands, start tokens aside.
fn is_untemplated(endpoint: &Endpoint, requests: &[GenerationRequest]) -> bool {
    let (pieces, start) = (endpoint.model.tokenizer.pieces(), endpoint.model.tokenizer.start());
    let is_control = |id: &u32| pieces.is_special(*id) && !start.contains(id);
    let plain = |request: &GenerationRequest| !request.prompt.iter().any(is_control);
    endpoint.template().is_some() && requests.iter().any(plain)
}

fn prepare(call: Preparing<'_>) -> Result<Prepared<Answer>, Problem> {
    let mut request: CompletionRequest =
        parse_body(call.body).map_err(|error| wrong_body(&call, "completions", &error))?;
    let options = Options::from(&request);
    let prompt = std::mem::take(&mut request.prompt);
    let asked = call.asked.insert(Asked::new(&request.model, options.stream, &request));
    let ignored = ignored::in_completion(call.body)?;
    let endpoint = call.state.endpoints.called(&request.model, call.visibility, "a call")?;
    let takes = endpoint.answer_settings.takes(Mode::Plain, &endpoint.name);
    takes.map_err(|text| Problem::field("model", text))?;
    refuse_unsupported(&request)?;
    options.check(&endpoint, prompt.count(), call.key)?;
    check_prompts(&endpoint, &prompt)?;
    if call.state.keeps_texts(&endpoint) {
        asked.keep_prompt(&prompt);
    }
    let (prompts, texts): (Vec<_>, Vec<_>) = encode(&endpoint, prompt)?.into_iter().unzip();
    let echoed = prompts.iter().zip(texts).filter(|_| options.echoes());
    let echo: Vec<Echo> = echoed.map(|(ids, text)| Echo { ids: ids.clone(), text }).collect();
    let (stop, name) = (options.stop_strings(), call.id.in_steps());
    let requests = prompts
        .into_iter()
        .map(|prompt| options.request(&endpoint, &name, prompt, call.cache_scope, &stop))
        .collect::<Result<Vec<_>, _>>()?;
    let made = options.choices as usize;
    let begins = |prompt: usize| echo.get(prompt).map_or(0, |echo| echo.text.chars().count());
    let answer = Answer {
        id: format!("cmpl-{}", call.id.id),
        created: seconds_since_1970(),
        model: request.model,
        wanted: options.wanted,
        made: options.choices,
        logprobs: options.top_logprobs.is_some(),
        offsets: (0..requests.len() * made).map(|choice| begins(choice / made)).collect(),
        echo,
        endpoint: endpoint.clone(),
    };
    let lengths = requests.iter().map(|request| request.prompt.len());
    Ok(Prepared {
        answer_bytes: options.answer_bytes(lengths, requests[0].most_tokens),
        note: is_untemplated(&endpoint, &requests).then_some((NOTE, UNTEMPLATED)),
        answer,
        endpoint,
        extras: options.extras(),
        requests,
        ignored,
    })
}

/// Refuses prompts that cannot be, before any work is done on them.
fn check_prompts(endpoint: &Endpoint, prompt: &Prompt) -> Result<(), Problem> {
    let context = endpoint.limits().context;
    let ids = |ids: &Vec<u32>| match ids.len() > context {
        true => Err(Problem::too_long(ids.len(), 0, context, ("prompt", "max_tokens"))),
        false => Ok(()),
    };
    let text = |text: &String| check_bytes(endpoint, "prompt", text.len());
    match prompt {
        Prompt::Text(one) => text(one),
        Prompt::Texts(several) => several.iter().try_for_each(text),
        Prompt::Ids(one) => ids(one),
        Prompt::IdLists(several) => several.iter().try_for_each(ids),
    }?;
    if prompt.count() == 0 {
        return Err(Problem::field(
            "prompt",
            "`prompt` is an empty list; send one prompt or more".into(),
        ));
    }
    Ok(())
}

/// Refuses by name what would change the answer and is not supported.
fn refuse_unsupported(request: &CompletionRequest) -> Result<(), Problem> {
    let refuse = |field: &str, text: &str| Err(Problem::field(field, format!("`{field}` {text}")));
    if request.suffix.as_ref().is_some_and(|suffix| !suffix.is_empty()) {
        return refuse(
            "suffix",
            "is not supported: text can be continued, not filled in; leave it out",
        );
    }
    let (n, best_of) = (request.n.unwrap_or(1), request.best_of);
    if best_of.is_some_and(|best_of| best_of < n) {
        return refuse("best_of", &format!("is less than `n`; use {n} or more"));
    }
    if best_of.is_some_and(|best_of| best_of > n) && request.stream == Some(true) {
        return refuse("best_of", "needs whole answers to choose from; leave `stream` out");
    }
    Ok(())
}

/// Returns the token ids and the text of each prompt; text gets the start token that the model's tokenizer puts before
/// plain text.
fn encode(endpoint: &Endpoint, prompt: Prompt) -> Result<Vec<(Vec<u32>, String)>, Problem> {
    let encoded = |text: String| {
        endpoint
            .model
            .tokenizer
            .encode(&text, true)
            .map(|ids| (ids, text))
            .map_err(|e| Problem::field("prompt", e.to_string()))
    };
    let decoded = |ids: Vec<u32>| {
        let text = endpoint.model.tokenizer.pieces().text(&ids);
        (ids, text)
    };
    let prompts = match prompt {
        Prompt::Text(one) => vec![encoded(one)?],
        Prompt::Texts(several) => several.into_iter().map(encoded).collect::<Result<_, _>>()?,
        Prompt::Ids(one) => vec![decoded(one)],
        Prompt::IdLists(several) => several.into_iter().map(decoded).collect(),
    };
    Ok(prompts)
}

/// An answer in the making.
struct Answer {
    id: String,
    created: u64,
    model: String,
    /// Completions to return of each prompt.
    wanted: u32,
    /// Completions made of each prompt.
    made: u32,
    /// Whether log-probabilities were asked for.
    logprobs: bool,
    /// The prompts, when they are echoed.
    echo: Vec<Echo>,
    /// Where the next token of each completion begins, in characters.
    offsets: Vec<usize>,
    endpoint: Lease,
}

/// A prompt that is echoed at the beginning of each of its completions.
struct Echo {
    ids: Vec<u32>,
    text: String,
}

impl Answer {
    /// Returns what a prompt's completions begin with when it is echoed: its text and the log-probabilities, if those
    /// were asked for, of its tokens.
    fn echoed(&self, prompt: usize, logprobs: &[TokenLogprobs]) -> CompletionChoice {
        let Some(echo) = self.echo.get(prompt) else {
            return CompletionChoice::default();
        };
        CompletionChoice {
            text: echo.text.clone(),
            logprobs: self
                .logprobs
                .then(|| of_prompt(&self.endpoint, &echo.ids, &echo.text, logprobs)),
            ..CompletionChoice::default()
        }
    }

    /// Returns the pieces with which a prompt's completions begin.
    fn begin(&self, prompt: usize, logprobs: &[TokenLogprobs]) -> Vec<CompletionAnswer> {
        let said = self.echoed(prompt, logprobs);
        let first = prompt as u32 * self.made;
        let piece = |index| CompletionChoice { index, ..said.clone() };
        (first..first + self.made)
            .map(|index| self.answer(vec![piece(index)], None))
            .collect()
    }

    fn answer(&self, choices: Vec<CompletionChoice>, usage: Option<Usage>) -> CompletionAnswer {
        CompletionAnswer {
            id: self.id.clone(),
            object: "text_completion".into(),
            created: self.created,
            model: self.model.clone(),
            system_fingerprint: self.endpoint.fingerprint(),
            choices,
            usage,
        }
    }
}

impl Shape for Answer {
    type Piece = CompletionAnswer;
    type Whole = CompletionAnswer;

    fn whole(self, mut collected: Vec<Collected>, usage: Usage, extras: Extras) -> CompletionAnswer {
        let mut choices = Vec::new();
        for (prompt, made) in collected.chunks_mut(self.made as usize).enumerate() {
            let begin = self.echoed(prompt, &made[0].logprobs_of_prompt);
            let offset = begin.text.chars().count();
            // Stable, so that those made first come first among equals.
            if self.made > self.wanted {
                made.sort_by(|a, b| b.mean_logprob().total_cmp(&a.mean_logprob()));
            }
            for one in made.iter_mut().take(self.wanted as usize) {
                let one = std::mem::take(one);
                let mut logprobs = begin.logprobs.clone();
                if let Some((lists, _)) = of_answer(&self.endpoint, &one.logprobs, offset).filter(|_| self.logprobs) {
                    logprobs.get_or_insert_default().append(lists);
                }
                choices.push(CompletionChoice {
                    text: begin.text.clone() + &one.text,
                    index: choices.len() as u32,
                    logprobs,
                    finish_reason: Some(one.finish_reason),
                    token_ids: extras.token_ids.then_some(one.ids),
                    measured: one.measured.filter(|_| extras.measured),
                });
            }
        }
        self.answer(choices, Some(usage))
    }

    fn opening(&mut self) -> Vec<CompletionAnswer> {
        // With log-probabilities, prompts are echoed once those are known.
        let prompts = if self.logprobs { 0 } else { self.echo.len() };
        (0..prompts).flat_map(|prompt| self.begin(prompt, &[])).collect()
    }

    fn prompt(&mut self, first_choice: u32, logprobs: Vec<TokenLogprobs>) -> Vec<CompletionAnswer> {
        self.begin((first_choice / self.made) as usize, &logprobs)
    }

    fn plain(&self, choice: u32, text: String) -> CompletionAnswer {
        let choice = CompletionChoice {
            text,
            index: choice,
            ..CompletionChoice::default()
        };
        self.answer(vec![choice], None)
    }

    fn piece(&mut self, new: Piece, extras: Extras) -> Option<CompletionAnswer> {
        let offset = &mut self.offsets[new.choice as usize];
        let logprobs = of_answer(&self.endpoint, &new.logprobs, *offset).map(|(lists, end)| {
            *offset = end;
            lists
        });
        // Nothing to see yet: half a character, or what may become a stop string.
        if new.text.is_empty() && logprobs.is_none() && !extras.token_ids {
            return None;
        }
        let mut piece = self.plain(new.choice, new.text.into());
        piece.choices[0].logprobs = logprobs;
        piece.choices[0].token_ids = extras.token_ids.then(|| new.ids.to_vec());
        Some(piece)
    }

    fn end(&mut self, choice: u32, text: String, finish_reason: String, extras: EndExtras) -> CompletionAnswer {
        let choice = CompletionChoice {
            text,
            index: choice,
            finish_reason: Some(finish_reason),
            measured: extras.measured,
            token_ids: extras.token_ids,
            logprobs: None,
        };
        self.answer(vec![choice], None)
    }

    fn usage(&mut self, usage: Usage) -> CompletionAnswer {
        self.answer(Vec::new(), Some(usage))
    }
}
