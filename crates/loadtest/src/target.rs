//! How one request is sent, and when which of its tokens came.

use crate::prompts::Prompt;
use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use serde::Deserialize;
use std::error::Error;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;
use vastrelay_wire::chat::ChatRequest;
use vastrelay_wire::completion::{CompletionRequest, Prompt as Plain};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{ModelStatus, ServiceStatus};
use vastrelay_wire::sampling::{Include, StreamOptions, Usage};

/// One request of a load.
#[derive(Clone, Debug)]
pub struct Request {
    /// What it asks.
    pub prompt: Arc<Prompt>,
    /// Most tokens of the answer.
    pub most_tokens: Option<usize>,
    /// Whether the answer goes on until it has them.
    pub force_length: bool,
    /// Makes its sampling repeatable.
    pub seed: u64,
}

/// What came of a request.
#[derive(Clone, Debug)]
pub struct Answer {
    /// When each token came; tokens that came together have the same moment.
    pub tokens: Vec<Instant>,
    /// When it was over.
    pub ended: Instant,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the service's cache.
    pub reused_tokens: usize,
    /// Tokens of the answer, as the service counts them.
    pub output_tokens: usize,
    /// How long to wait before the next request, where the service said so.
    pub retry_after: Option<Duration>,
    /// What went wrong, by kind: `429 queue_full`, `connection refused`, `broken off`, …
    pub error: Option<String>,
}

/// Something that answers requests: a service, or a stand-in whose behaviour is known.
pub trait Target: Send + Sync + 'static {
    /// A request in the form in which it is sent.
    type Ready: Send + 'static;

    /// Makes a request ready before it is due, so that this costs the answer no time.
    fn ready(&self, request: &Request) -> Self::Ready;

    /// Sends a request and waits for the end of its answer.
    fn send(&self, ready: Self::Ready) -> impl Future<Output = Answer> + Send;

    /// Returns how the service's side stands, where it tells.
    fn look(&self) -> impl Future<Output = Option<ModelStatus>> + Send;
}

/// A service on the OpenAI wire.
pub struct HttpTarget {
    http: reqwest::Client,
    url: String,
    key: Option<String>,
    model: String,
    temperature: f32,
    /// Whether it is one of ours, which tells token ids and how it stands.
    ours: bool,
}

impl HttpTarget {
    /// Returns a target for a model of the service at an address; `ours` for services that know our extensions.
    pub fn new(
        http: reqwest::Client,
        url: &str,
        key: Option<String>,
        model: &str,
        temperature: f32,
        ours: bool,
    ) -> HttpTarget {
        HttpTarget {
            http,
            url: url.trim_end_matches('/').to_owned(),
            key,
            model: model.to_owned(),
            temperature,
            ours,
        }
    }

    fn post(&self, request: &Request) -> reqwest::RequestBuilder {
        let stream_options = Some(StreamOptions {
            include_usage: Some(true),
        });
        let include = self.ours.then(|| vec![Include::TokenIds]);
        let (most, least) = (
            request.most_tokens.map(|most| most as u32),
            request
                .most_tokens
                .filter(|_| request.force_length)
                .map(|most| most as u32),
        );
        // 53 bits: whole numbers that every reader of JSON keeps exactly, so that a request can be repeated from its record.
        let seed = Some((request.seed >> 11) as i64);
        let plain = match &*request.prompt {
            Prompt::Messages(messages) => {
                let body = ChatRequest {
                    model: self.model.clone(),
                    messages: messages.clone(),
                    stream: Some(true),
                    stream_options,
                    max_tokens: most,
                    min_tokens: least,
                    temperature: Some(self.temperature),
                    seed,
                    include,
                    ..ChatRequest::default()
                };
                return self.http.post(format!("{}/v1/chat/completions", self.url)).json(&body);
            }
            Prompt::Text(text) => Plain::Text(text.clone()),
            Prompt::Ids(ids) => Plain::Ids(ids.clone()),
        };
        let body = CompletionRequest {
            stream: Some(true),
            stream_options,
            max_tokens: most,
            min_tokens: least,
            temperature: Some(self.temperature),
            seed,
            include,
            ..CompletionRequest::new(self.model.clone(), plain)
        };
        self.http.post(format!("{}/v1/completions", self.url)).json(&body)
    }

    fn with_key(&self, request: reqwest::RequestBuilder) -> reqwest::RequestBuilder {
        match &self.key {
            Some(key) => request.bearer_auth(key),
            None => request,
        }
    }
}

/// The parts of a streamed piece that matter here, chat or plain.
#[derive(Deserialize)]
struct Frame {
    #[serde(default)]
    choices: Vec<Choice>,
    usage: Option<Usage>,
}

#[derive(Deserialize)]
struct Choice {
    delta: Option<Delta>,
    text: Option<String>,
    token_ids: Option<Vec<u32>>,
}

#[derive(Deserialize)]
struct Delta {
    content: Option<String>,
}

impl Choice {
    /// Returns how many tokens it brings: exactly, where ids are told; else one for each piece of text.
    fn tokens(&self) -> usize {
        let text = self
            .text
            .as_ref()
            .or(self.delta.as_ref().and_then(|delta| delta.content.as_ref()));
        match &self.token_ids {
            Some(ids) => ids.len(),
            None => usize::from(text.is_some_and(|text| !text.is_empty())),
        }
    }
}

impl Answer {
    fn begin() -> Answer {
        Answer {
            tokens: Vec::new(),
            ended: Instant::now(),
            prompt_tokens: 0,
            reused_tokens: 0,
            output_tokens: 0,
            retry_after: None,
            error: None,
        }
    }

    fn fail(mut self, error: impl Into<String>) -> Answer {
        self.error = Some(error.into());
        self.ended = Instant::now();
        self
    }

    fn take(&mut self, frame: Frame, at: Instant) {
        let count = frame.choices.iter().map(Choice::tokens).sum();
        self.tokens.extend(std::iter::repeat_n(at, count));
        if let Some(usage) = frame.usage {
            self.prompt_tokens = usage.prompt_tokens;
            self.reused_tokens = usage.prompt_tokens_details.cached_tokens;
            self.output_tokens = usage.completion_tokens;
        }
    }
}

/// Names what broke a connection before anything was answered, as the system calls it where it was the system.
fn broken(error: &reqwest::Error) -> String {
    let mut causes = std::iter::successors(error.source(), |cause| (**cause).source());
    let system = causes.find_map(|cause| cause.downcast_ref::<std::io::Error>());
    match system {
        Some(cause) => cause.kind().to_string(),
        None if error.is_connect() => "not connected".into(),
        None => "connection ended".into(),
    }
}

impl Target for HttpTarget {
    type Ready = reqwest::Result<reqwest::Request>;

    fn ready(&self, request: &Request) -> Self::Ready {
        self.with_key(self.post(request)).build()
    }

    async fn send(&self, ready: Self::Ready) -> Answer {
        let mut answer = Answer::begin();
        let response = match ready {
            Ok(request) => self.http.execute(request).await,
            Err(error) => Err(error),
        };
        let response = match response {
            Ok(response) => response,
            Err(error) => return answer.fail(broken(&error)),
        };
        let status = response.status();
        if !status.is_success() {
            let wait = response
                .headers()
                .get("retry-after")
                .and_then(|value| value.to_str().ok()?.parse().ok());
            answer.retry_after = wait.map(Duration::from_secs);
            let text = response.text().await.unwrap_or_default();
            let envelope: Option<ErrorEnvelope> = serde_json::from_str(&text).ok();
            let code = envelope.and_then(|envelope| envelope.error.code).unwrap_or_default();
            return answer.fail(format!("{} {code}", status.as_u16()).trim_end());
        }
        let mut events = response.bytes_stream().eventsource();
        while let Some(event) = events.next().await {
            let at = Instant::now();
            let Ok(event) = event else {
                return answer.fail("broken off");
            };
            if event.data == "[DONE]" {
                answer.ended = at;
                answer.output_tokens = answer.output_tokens.max(answer.tokens.len());
                // Read to its very end, the connection serves the next request as well.
                while events.next().await.is_some() {}
                return answer;
            }
            if event.data.starts_with("{\"error\"") {
                return answer.fail("broken off");
            }
            match serde_json::from_str(&event.data) {
                Ok(frame) => answer.take(frame, at),
                Err(_) => return answer.fail("unreadable"),
            }
        }
        answer.fail("broken off")
    }

    async fn look(&self) -> Option<ModelStatus> {
        if !self.ours {
            return None;
        }
        let request = self
            .http
            .get(format!("{}/manage/status", self.url))
            .timeout(Duration::from_secs(5));
        let response = self.with_key(request).send().await.ok()?;
        let status: ServiceStatus = response.error_for_status().ok()?.json().await.ok()?;
        status.models.into_iter().find(|model| model.name == self.model)
    }
}
