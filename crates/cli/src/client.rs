//! Calls to a service.

use crate::args::connection::Connection;
use crate::failure::Failure;
use reqwest::{RequestBuilder, Response, StatusCode};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::de::DeserializeOwned;
use std::error::Error;
use std::time::Duration;
use vastrelay_loadtest::target::Trust;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::ModelList;

/// Longest wait for a connection.
const CONNECT: Duration = Duration::from_secs(10);
/// Longest silence of a service: a whole answer may take minutes.
const SILENCE: Duration = Duration::from_secs(600);
/// Most bytes of a certificate.
const MOST_CERTIFICATE: u64 = 1 << 20;

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
                "the service has several models: {}; choose one with --model NAME",
                names.join(", ")
            ))),
        }
    }

    /// Returns a client for the given address and key.
    pub fn new(connection: &Connection) -> Result<Client, Failure> {
        let url = connection.url.trim_end_matches('/').trim_end_matches("/v1").to_owned();
        if reqwest::Url::parse(&url).is_err() {
            return Err(Failure::usage(format!(
                "`{url}` is not an address; write it like http://127.0.0.1:7411"
            )));
        }
        let mut http = reqwest::Client::builder()
            .connect_timeout(CONNECT)
            .read_timeout(SILENCE);
        let mut trust = Trust::default();
        if let Some(file) = &connection.ca {
            let wrong = |reason: String| Failure::usage(format!("{} is not a certificate: {reason}", file.display()));
            let pem = vastrelay_files::read_linked(file, MOST_CERTIFICATE).map_err(|e| wrong(e.to_string()))?;
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

    /// Gets an address and reads the answer; `None` when there is nothing.
    pub async fn get_if_there<T: DeserializeOwned>(&self, path: &str) -> Result<Option<T>, Failure> {
        let request = self.with_key(self.http.get(format!("{}{path}", self.url)));
        let response = request.send().await.map_err(|error| self.unreachable(&error))?;
        if response.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        read(accepted(response).await?).await.map(Some)
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

    fn with_key(&self, request: RequestBuilder) -> RequestBuilder {
        match &self.key {
            Some(key) => request.bearer_auth(key),
            None => request,
        }
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let response = self.with_key(request).send().await;
        accepted(response.map_err(|error| self.unreachable(&error))?).await
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        Failure::unreachable(format!("cannot reach {}: {}", self.url, reason(error)))
    }
}

/// Returns an answer that is a success.
async fn accepted(response: Response) -> Result<Response, Failure> {
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

/// Says why a service cannot be reached, and what would help.
fn reason(error: &reqwest::Error) -> String {
    let mut causes = Vec::new();
    let mut cause: Option<&dyn Error> = Some(error);
    while let Some(error) = cause {
        causes.push(error.to_string());
        cause = error.source();
    }
    let says = |words: &[&str]| causes.iter().any(|cause| words.iter().any(|word| cause.contains(word)));
    if says(&["invalid peer certificate", "UnknownIssuer", "CaUsedAsEndEntity"]) {
        "its certificate is not trusted; --ca FILE trusts one more".into()
    } else if says(&["dns error", "failed to lookup address"]) {
        "the host name is unknown".into()
    } else if says(&["Connection refused"]) {
        "nothing listens there; `vastrelay start --demo` starts a service, --url or VASTRELAY_URL names another".into()
    } else if error.is_timeout() {
        let (connect, silence) = (CONNECT.as_secs(), SILENCE.as_secs());
        format!("it does not answer (waited {connect} s to connect, or {silence} s for an answer)")
    } else {
        causes.last().cloned().unwrap_or_default()
    }
}

async fn read<T: DeserializeOwned>(response: Response) -> Result<T, Failure> {
    response
        .json()
        .await
        .map_err(|e| Failure::failed(format!("the answer cannot be read: {e}")))
}
