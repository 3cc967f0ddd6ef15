//! Calls to a service.

use crate::args::Connection;
use crate::failure::Failure;
use reqwest::{RequestBuilder, Response};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::de::DeserializeOwned;
use vastrelay_loadtest::target::Trust;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::ModelList;

/// A service at an address.
pub struct Client {
    http: reqwest::Client,
    trust: Trust,
    url: String,
    key: Option<String>,
}

impl Client {
    /// Returns the service's address.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Returns whom it believes and the key it has, for whoever sends requests of its own.
    pub fn parts(&self) -> (Trust, Option<String>) {
        (self.trust.clone(), self.key.clone())
    }

    /// Returns the names of the models there are.
    pub async fn models(&self) -> Result<Vec<String>, Failure> {
        let list: ModelList = self.get("/v1/models").await?;
        Ok(list.data.into_iter().map(|model| model.id).collect())
    }

    /// Returns the given model, or the only one there is.
    pub async fn model_or_only(&self, given: Option<&String>) -> Result<String, Failure> {
        if let Some(model) = given {
            return Ok(model.clone());
        }
        let mut names = self.models().await?;
        match names.len() {
            0 => Err(Failure::failed("the service has no model")),
            1 => Ok(names.remove(0)),
            _ => Err(Failure::usage(format!(
                "the service has several models: {}; --model NAME picks one",
                names.join(", ")
            ))),
        }
    }

    /// Returns a client for the given address and key.
    pub fn new(connection: &Connection) -> Result<Client, Failure> {
        let url = connection.url.trim_end_matches('/').trim_end_matches("/v1").to_owned();
        if reqwest::Url::parse(&url).is_err() {
            return Err(Failure::usage(format!(
                "`{url}` is no address; http://127.0.0.1:7411 is one"
            )));
        }
        let mut http = reqwest::Client::builder();
        let mut trust = Trust::default();
        if let Some(file) = &connection.ca {
            let wrong = |reason: String| Failure::usage(format!("{} is no certificate: {reason}", file.display()));
            let pem = std::fs::read(file).map_err(|e| wrong(e.to_string()))?;
            let certificate = CertificateDer::from_pem_slice(&pem).map_err(|e| wrong(e.to_string()))?;
            let root = reqwest::Certificate::from_der(&certificate).map_err(|e| wrong(e.to_string()))?;
            http = http.add_root_certificate(root);
            trust = Trust::Authorities(vec![certificate]);
        }
        Ok(Client {
            http: http.build().map_err(Failure::failed)?,
            trust,
            url,
            key: connection.key.clone(),
        })
    }

    /// Gets an address and reads the answer.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        read(self.open(path).await?).await
    }

    /// Posts JSON and returns the answer, when it is a success.
    pub async fn post(&self, path: &str, body: &impl serde::Serialize) -> Result<Response, Failure> {
        self.send(self.http.post(format!("{}{path}", self.url)).json(body))
            .await
    }

    /// Deletes what is at an address and reads the answer.
    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        read(self.send(self.http.delete(format!("{}{path}", self.url))).await?).await
    }

    /// Posts JSON and reads the answer.
    pub async fn post_for<T: DeserializeOwned>(&self, path: &str, body: &impl serde::Serialize) -> Result<T, Failure> {
        read(self.post(path, body).await?).await
    }

    /// Opens an address whose answer goes on and on.
    pub async fn open(&self, path: &str) -> Result<Response, Failure> {
        self.send(self.http.get(format!("{}{path}", self.url))).await
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

async fn read<T: DeserializeOwned>(response: Response) -> Result<T, Failure> {
    response
        .json()
        .await
        .map_err(|e| Failure::failed(format!("the answer cannot be read: {e}")))
}
