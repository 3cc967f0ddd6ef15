//! A service on the OpenAI wire.

use super::dial::{Sender, sender};
use super::{Answer, Request, Seen, Target, Trust};
use crate::prompts::Prompt;
use bytes::Bytes;
use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use futures_util::future::BoxFuture;
use http::header::{AUTHORIZATION, CONTENT_TYPE, RETRY_AFTER};
use http::request::Builder;
use http_body_util::{BodyExt, Full};
use hyper_util::client::legacy;
use serde::{Deserialize, Serialize};
use std::error::Error;
use std::time::Duration;
use tokio::time::{Instant, timeout};
use vastrelay_stamped::Stamps;
use vastrelay_wire::chat::ChatRequest;
use vastrelay_wire::completion::{CompletionRequest, Prompt as Plain};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::ServiceStatus;
use vastrelay_wire::sampling::{Include, StreamOptions, Usage};

/// How long the service may take to tell how it stands.
const LOOK_LIMIT: Duration = Duration::from_secs(5);

/// A service on the OpenAI wire.
pub struct HttpTarget {
    sender: Sender,
    url: String,
    key: Option<String>,
    model: String,
    temperature: f32,
    /// Whether it is one of ours, which tells token ids.
    ours: bool,
    look: Option<Look>,
}

/// Asks a service of ours how it stands, by whatever way its caller may manage it.
pub type Look = Box<dyn Fn() -> BoxFuture<'static, Option<ServiceStatus>> + Send + Sync>;

impl HttpTarget {
    /// Returns a target for a model of the service at an address; `ours` for services that know our extensions.
    ///
    /// # Errors
    /// When a certificate that is to be trusted cannot be used.
    pub fn new(
        trust: Trust,
        url: &str,
        key: Option<String>,
        model: &str,
        temperature: f32,
        ours: bool,
    ) -> Result<HttpTarget, String> {
        Ok(HttpTarget {
            sender: sender(trust).map_err(|error| error.to_string())?,
            url: url.trim_end_matches('/').to_owned(),
            key,
            model: model.to_owned(),
            temperature,
            ours,
            look: None,
        })
    }

    /// Returns the same target, whose service is asked how it stands by `look`.
    pub fn looked_at_by(self, look: Look) -> HttpTarget {
        HttpTarget {
            look: Some(look),
            ..self
        }
    }

    fn post(&self, request: &Request) -> http::Result<http::Request<Full<Bytes>>> {
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
                return self.json("/v1/chat/completions", &body);
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
        self.json("/v1/completions", &body)
    }

    fn json(&self, path: &str, body: &impl Serialize) -> http::Result<http::Request<Full<Bytes>>> {
        let body = serde_json::to_vec(body).expect("wire types are JSON");
        self.begin(http::Request::post(format!("{}{path}", self.url)))
            .header(CONTENT_TYPE, "application/json")
            .body(Full::from(body))
    }

    fn begin(&self, request: Builder) -> Builder {
        match &self.key {
            Some(key) => request.header(AUTHORIZATION, format!("Bearer {key}")),
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
            sent: None,
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
fn broken(error: &legacy::Error) -> String {
    let mut causes = std::iter::successors(error.source(), |cause| (**cause).source());
    let system = causes.find_map(|cause| cause.downcast_ref::<std::io::Error>());
    match system {
        Some(cause) => cause.kind().to_string(),
        None if error.is_connect() => "not connected".into(),
        None => "connection ended".into(),
    }
}

impl Target for HttpTarget {
    type Ready = http::Result<http::Request<Full<Bytes>>>;

    fn ready(&self, request: &Request) -> Self::Ready {
        self.post(request)
    }

    async fn send(&self, ready: Self::Ready) -> Answer {
        let mut answer = Answer::begin();
        let request = match ready {
            Ok(request) => request,
            Err(error) => return answer.fail(error.to_string()),
        };
        let response = match self.sender.request(request).await {
            Ok(response) => response,
            Err(error) => return answer.fail(broken(&error)),
        };
        let (head, body) = response.into_parts();
        let stamps = head
            .extensions
            .get::<Stamps>()
            .cloned()
            .expect("every connection has its stamps");
        // Opening a connection is waiting, too.
        answer.sent = stamps.note_answer().then(|| stamps.sent().into());
        if !head.status.is_success() {
            let wait = head
                .headers
                .get(RETRY_AFTER)
                .and_then(|value| value.to_str().ok()?.parse().ok());
            answer.retry_after = wait.map(Duration::from_secs);
            let text = body.collect().await.map(|body| body.to_bytes()).unwrap_or_default();
            let envelope: Option<ErrorEnvelope> = serde_json::from_slice(&text).ok();
            let code = envelope.and_then(|envelope| envelope.error.code).unwrap_or_default();
            return answer.fail(format!("{} {code}", head.status.as_u16()).trim_end());
        }
        let mut events = body.into_data_stream().eventsource();
        while let Some(event) = events.next().await {
            let at = Instant::from(stamps.received());
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

    async fn look(&self) -> Seen {
        let Some(look) = &self.look else { return Seen::Nothing };
        let Ok(Some(status)) = timeout(LOOK_LIMIT, look()).await else {
            return Seen::Nothing;
        };
        let name = &self.model;
        if let Some(served) = status.endpoints.into_iter().find(|endpoint| endpoint.name == *name) {
            return Seen::Served(Box::new(served));
        }
        Seen::Gone(match status.resting.into_iter().find(|resting| resting.name == *name) {
            Some(resting) => format!("the endpoint `{name}` is {}: {}", resting.state, resting.why),
            None => format!("the endpoint `{name}` was removed"),
        })
    }
}
