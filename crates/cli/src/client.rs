//! Calls to a service.

use crate::args::Connection;
use crate::failure::Failure;
use reqwest::{RequestBuilder, Response};
use serde::de::DeserializeOwned;
use vastrelay_wire::error::ErrorEnvelope;

/// A service at an address.
pub struct Client {
    http: reqwest::Client,
    url: String,
    key: Option<String>,
}

impl Client {
    /// Returns a client for the given address and key.
    pub fn new(connection: &Connection) -> Result<Client, Failure> {
        let url = connection.url.trim_end_matches('/').trim_end_matches("/v1").to_owned();
        if reqwest::Url::parse(&url).is_err() {
            return Err(Failure::usage(format!(
                "`{url}` is no address; http://127.0.0.1:7411 is one"
            )));
        }
        Ok(Client {
            http: reqwest::Client::new(),
            url,
            key: connection.key.clone(),
        })
    }

    /// Gets an address and reads the answer.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        let response = self.send(self.http.get(format!("{}{path}", self.url))).await?;
        response
            .json()
            .await
            .map_err(|e| Failure::failed(format!("the answer cannot be read: {e}")))
    }

    /// Posts JSON and returns the answer, when it is a success.
    pub async fn post(&self, path: &str, body: &impl serde::Serialize) -> Result<Response, Failure> {
        self.send(self.http.post(format!("{}{path}", self.url)).json(body))
            .await
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let request = match &self.key {
            Some(key) => request.bearer_auth(key),
            None => request,
        };
        let response = request.send().await.map_err(|error| self.unreachable(&error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.unwrap_or_default();
        let message = match serde_json::from_str::<ErrorEnvelope>(&text) {
            Ok(envelope) => envelope.error.message,
            Err(_) => format!("the service answered {status}"),
        };
        Err(Failure::failed(message))
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        let reason = if error.is_connect() {
            "nobody listens there".into()
        } else {
            error.to_string()
        };
        Failure::unreachable(format!(
            "no service answers at {}: {reason}; `vastrelay start --demo` starts one, --url or VASTRELAY_URL names another",
            self.url
        ))
    }
}
