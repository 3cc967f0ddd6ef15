//! The fields that chat and plain completions share, checked and turned into an engine's request.

use super::shape::Extras;
use crate::http::problem::Problem;
use std::ops::RangeInclusive;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_engine::{GenerationRequest, Sampling};
use vastrelay_fleet::answering::{PENALTIES, REPETITION_PENALTIES, SHARES, TEMPERATURES};
use vastrelay_text::StopStrings;
use vastrelay_wire::chat::ChatRequest;
use vastrelay_wire::completion::CompletionRequest;
use vastrelay_wire::models::ModelDefaults;
use vastrelay_wire::sampling::{Include, LogitBias, Stop, StreamOptions};

/// Most completions of one prompt.
const MOST_CHOICES: u32 = 16;
/// Most bytes of a stop string.
const LONGEST_STOP: usize = 256;
/// Bytes of text that a token comes to, on average, with what JSON adds.
const TOKEN_TEXT: usize = 16;
/// Bytes of a log-probability in a chat answer and in a plain completion.
const LOGPROB: [usize; 2] = [120, 48];
/// Most alternatives to a token.
const MOST_ALTERNATIVES: u32 = 20;

/// The shared fields.
pub(super) struct Options {
    pub stream: bool,
    usage_at_end: bool,
    token_ids: bool,
    measured: bool,
    pub most_tokens: Option<u32>,
    /// Completions made.
    pub choices: u32,
    /// Completions returned; less than are made when the best are picked.
    pub wanted: u32,
    pub top_logprobs: Option<u32>,
    /// The field that limits the answer, as the caller named it.
    limit_field: &'static str,
    /// `echo`; `None` for chat.
    echo: Option<bool>,
    min_tokens: u32,
    temperature: Option<f32>,
    top_p: Option<f32>,
    top_k: Option<u32>,
    min_p: Option<f32>,
    repetition_penalty: Option<f32>,
    presence_penalty: Option<f32>,
    frequency_penalty: Option<f32>,
    logit_bias: LogitBias,
    seed: Option<i64>,
    stop: Vec<String>,
}

impl From<&ChatRequest> for Options {
    fn from(request: &ChatRequest) -> Options {
        let logprobs = request.logprobs.unwrap_or(false);
        Options {
            stream: request.stream.unwrap_or(false),
            usage_at_end: wants_usage(request.stream_options),
            token_ids: includes(&request.include, Include::TokenIds),
            measured: includes(&request.include, Include::Measured),
            most_tokens: request.max_completion_tokens.or(request.max_tokens),
            limit_field: match request.max_completion_tokens {
                Some(_) => "max_completion_tokens",
                None => "max_tokens",
            },
            choices: request.n.unwrap_or(1),
            wanted: request.n.unwrap_or(1),
            top_logprobs: logprobs.then(|| request.top_logprobs.unwrap_or(0)),
            echo: None,
            min_tokens: request.min_tokens.unwrap_or(0),
            temperature: request.temperature,
            top_p: request.top_p,
            top_k: request.top_k,
            min_p: request.min_p,
            repetition_penalty: request.repetition_penalty,
            presence_penalty: request.presence_penalty,
            frequency_penalty: request.frequency_penalty,
            logit_bias: request.logit_bias.clone().unwrap_or_default(),
            seed: request.seed,
            stop: request.stop.clone().map(Stop::into_list).unwrap_or_default(),
        }
    }
}

impl From<&CompletionRequest> for Options {
    fn from(request: &CompletionRequest) -> Options {
        Options {
            stream: request.stream.unwrap_or(false),
            usage_at_end: wants_usage(request.stream_options),
            token_ids: includes(&request.include, Include::TokenIds),
            measured: includes(&request.include, Include::Measured),
            most_tokens: Some(request.max_tokens.unwrap_or(16)),
            limit_field: "max_tokens",
            choices: request.best_of.or(request.n).unwrap_or(1),
            wanted: request.n.unwrap_or(1),
            top_logprobs: request.logprobs,
            echo: Some(request.echo.unwrap_or(false)),
            min_tokens: request.min_tokens.unwrap_or(0),
            temperature: request.temperature,
            top_p: request.top_p,
            top_k: request.top_k,
            min_p: request.min_p,
            repetition_penalty: request.repetition_penalty,
            presence_penalty: request.presence_penalty,
            frequency_penalty: request.frequency_penalty,
            logit_bias: request.logit_bias.clone().unwrap_or_default(),
            seed: request.seed,
            stop: request.stop.clone().map(Stop::into_list).unwrap_or_default(),
        }
    }
}

fn wants_usage(options: Option<StreamOptions>) -> bool {
    options.and_then(|options| options.include_usage).unwrap_or(false)
}

fn includes(list: &Option<Vec<Include>>, wanted: Include) -> bool {
    list.as_ref().is_some_and(|list| list.contains(&wanted))
}

impl Options {
    /// Returns whether the prompt is echoed.
    pub fn echoes(&self) -> bool {
        self.echo == Some(true)
    }

    /// Returns what the answer carries besides its text.
    pub fn extras(&self) -> Extras {
        Extras {
            token_ids: self.token_ids,
            measured: self.measured,
            usage_at_end: self.usage_at_end,
        }
    }

    /// Returns the field that holds the prompt.
    fn prompt_field(&self) -> &'static str {
        if self.echo.is_some() { "prompt" } else { "messages" }
    }

    /// Checks what does not depend on a prompt.
    ///
    /// # Errors
    /// 400 that names the field, its value and what works; 429 when the queue is full.
    pub fn check(&self, endpoint: &Endpoint, prompts: usize, key: &str) -> Result<(), Problem> {
        within("n", self.wanted as f32, 1.0, MOST_CHOICES as f32)?;
        within("best_of", self.choices as f32, 1.0, MOST_CHOICES as f32)?;
        let queue = endpoint.limits().queue_depth;
        let choices = prompts * self.choices as usize;
        if choices > queue {
            return Err(Problem::too_many_choices(choices, queue));
        }
        if let Some(top) = self.top_logprobs {
            let field = if self.echo.is_some() {
                "logprobs"
            } else {
                "top_logprobs"
            };
            within(field, top as f32, 0.0, MOST_ALTERNATIVES as f32)?;
        }
        if let Some(stop) = self.stop.iter().find(|stop| stop.len() > LONGEST_STOP) {
            let text = format!(
                "`stop` has a string of {} bytes; the limit is {LONGEST_STOP}",
                stop.len()
            );
            return Err(Problem::field("stop", text));
        }
        let refused = endpoint.refuse_when_full(key);
        refused.map_err(|refusal| Problem::refusal(&refusal, &[]))
    }

    /// Returns the most bytes that the answer to prompts of these lengths may take at once: whole, or in the largest piece
    /// of a stream.
    pub fn answer_bytes(&self, prompts: impl Iterator<Item = usize>, most_tokens: usize) -> usize {
        let kind = usize::from(self.echo.is_some());
        let alternatives = self.top_logprobs.map_or(0, |top| (1 + top as usize) * LOGPROB[kind]);
        let each = TOKEN_TEXT + alternatives + 8 * usize::from(self.token_ids);
        let told = |prompt: usize| {
            let answer = if self.stream { 0 } else { most_tokens };
            let echo = if self.echoes() { prompt } else { 0 };
            (echo + answer)
                .saturating_mul(each)
                .saturating_mul(self.choices as usize)
        };
        prompts.map(told).fold(0, usize::saturating_add)
    }

    /// Turns the fields and a prompt into an engine's request; `answers_apart` when a template made the prompt. Callers with
    /// different cache scopes never share cached prompts.
    ///
    /// # Errors
    /// 400 that names the field, its value and what works.
    pub fn request(
        &self,
        endpoint: &Endpoint,
        name: &str,
        prompt: Vec<u32>,
        cache_scope: &str,
        stop: &StopStrings,
    ) -> Result<GenerationRequest, Problem> {
        let (answers_apart, field) = (self.echo.is_none(), self.prompt_field());
        if prompt.is_empty() {
            let text = "the prompt is empty; send one token or more".into();
            return Err(Problem::field(field, text));
        }
        let vocabulary = endpoint.model.description.vocabulary;
        if let Some(id) = prompt.iter().find(|id| **id as usize >= vocabulary) {
            let text = format!(
                "the prompt holds token {id}; this model has tokens 0 to {}",
                vocabulary - 1
            );
            return Err(Problem::field(field, text));
        }
        let limit = endpoint.limits().longest_sequence();
        let room = limit.saturating_sub(prompt.len());
        let usual = endpoint.answer_settings.said.defaults.max_tokens;
        let usual = usual.map_or(room, |most| room.min(most as usize));
        let most_tokens = self.most_tokens.map_or(usual, |most| most as usize);
        if prompt.len() >= limit || prompt.len() + most_tokens > limit {
            let names = (field, self.limit_field);
            return Err(Problem::too_long(prompt.len(), most_tokens, limit, names));
        }
        if most_tokens == 0 && !self.echoes() {
            let echo = self.echo.map_or("", |_| ", or use 0 together with `echo`: true");
            let text = format!("`{}` is 0; use 1 to {limit}{echo}", self.limit_field);
            return Err(Problem::field(self.limit_field, text));
        }
        within("min_tokens", self.min_tokens as f32, 0.0, most_tokens as f32)?;
        Ok(GenerationRequest {
            name: name.to_owned(),
            answers_apart,
            choices: self.choices,
            sampling: self.sampling(endpoint)?,
            end_ids: endpoint.answer_settings.end_ids.clone(),
            time_limit: endpoint.answer_settings.said.longest_answer,
            least_tokens: self.min_tokens as usize,
            stop: stop.clone(),
            top_logprobs: match self.top_logprobs {
                // The best are picked by their log-probabilities.
                None if self.choices > self.wanted => Some(0),
                top => top.map(|top| top as usize),
            },
            logprobs_of_prompt: self.top_logprobs.filter(|_| self.echoes()).map(|top| top as usize),
            cache_scope: cache_scope.to_owned(),
            ..GenerationRequest::new(prompt, most_tokens)
        })
    }

    /// Returns the strings that end an answer, ready to be looked for.
    pub fn stop_strings(&self) -> StopStrings {
        StopStrings::new(&self.stop)
    }

    /// Fields as asked for, else as the endpoint's spec has them, else as the model's publisher does, else the standard's.
    fn sampling(&self, endpoint: &Endpoint) -> Result<Sampling, Problem> {
        let (said, own) = (&endpoint.answer_settings.said.defaults, &endpoint.model.defaults);
        let pick = |field, asked: Option<f32>, usual: Option<f32>, neutral: f32, range: &RangeInclusive<f32>| {
            within(field, asked.or(usual).unwrap_or(neutral), *range.start(), *range.end())
        };
        let repetition = said.repetition_penalty.or(own.repetition_penalty);
        let (presence, frequency) = (said.presence_penalty, said.frequency_penalty);
        let vocabulary = endpoint.model.description.vocabulary;
        Ok(Sampling {
            temperature: pick(
                "temperature",
                self.temperature,
                said.temperature.or(own.temperature),
                1.0,
                &TEMPERATURES,
            )?,
            top_k: self.top_k.or(said.top_k).or(own.top_k).unwrap_or(0) as usize,
            top_p: pick("top_p", self.top_p, said.top_p.or(own.top_p), 1.0, &SHARES)?,
            min_p: pick("min_p", self.min_p, said.min_p, 0.0, &SHARES)?,
            repetition_penalty: pick(
                "repetition_penalty",
                self.repetition_penalty,
                repetition,
                1.0,
                &REPETITION_PENALTIES,
            )?,
            presence_penalty: pick("presence_penalty", self.presence_penalty, presence, 0.0, &PENALTIES)?,
            frequency_penalty: pick("frequency_penalty", self.frequency_penalty, frequency, 0.0, &PENALTIES)?,
            logit_bias: self
                .logit_bias
                .iter()
                .map(|(id, bias)| bias_of(id, *bias, vocabulary))
                .collect::<Result<_, _>>()?,
            seed: self
                .seed
                .map_or_else(|| uuid::Uuid::new_v4().as_u64_pair().0, |seed| seed as u64),
        })
    }
}

/// Returns the sampling of an endpoint where a call says nothing.
pub(super) fn defaults_of(endpoint: &Endpoint) -> ModelDefaults {
    let (said, own) = (&endpoint.answer_settings.said.defaults, &endpoint.model.defaults);
    ModelDefaults {
        temperature: Some(said.temperature.or(own.temperature).unwrap_or(1.0)),
        top_p: said.top_p.or(own.top_p),
        top_k: said.top_k.or(own.top_k),
        max_tokens: said.max_tokens,
    }
}

fn bias_of(id: &str, bias: f32, vocabulary: usize) -> Result<(u32, f32), Problem> {
    let bias = within("logit_bias", bias, -100.0, 100.0)?;
    match id.parse::<u32>() {
        Ok(id) if (id as usize) < vocabulary => Ok((id, bias)),
        _ => {
            let text = format!(
                "`logit_bias` names token `{}`; this model has tokens 0 to {}",
                id.chars().take(20).collect::<String>(),
                vocabulary - 1
            );
            Err(Problem::field("logit_bias", text))
        }
    }
}

/// Returns the value when it lies in the range.
fn within(field: &str, value: f32, low: f32, high: f32) -> Result<f32, Problem> {
    if value >= low && value <= high {
        return Ok(value);
    }
    Err(Problem::field(
        field,
        format!("`{field}` is {value}; use {low} to {high}"),
    ))
}
