//! Calls to a service.

use crate::args::connection::Connection;
use crate::cpu::data_folder;
use crate::failure::Failure;
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::de::DeserializeOwned;
use std::error::Error;
use std::time::Duration;
use vastrelay_loadtest::target::Trust;
use vastrelay_service::access::operator::{FoundSocket, RuntimePlaces};
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
    /// The way to manage a service of this user on this machine, which needs no key.
    operator: Option<OperatorClient>,
    trust: Trust,
    url: String,
    key: Option<String>,
}

/// Calls over the operator's socket.
struct OperatorClient {
    http: reqwest::Client,
    /// Keeps the path to the socket valid.
    _socket: FoundSocket,
}

impl OperatorClient {
    /// Returns the way to the service at an address, when it is one of this user on this machine.
    fn find(url: &str) -> Option<OperatorClient> {
        let socket = FoundSocket::find(url, &RuntimePlaces::of_this_user(data_folder().ok()))?;
        let http = reqwest::Client::builder()
            .read_timeout(SILENCE)
            .unix_socket(socket.path());
        Some(OperatorClient {
            http: http.build().ok()?,
            _socket: socket,
        })
    }
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
        let url = service_address(&connection.url())?;
        let mut http = reqwest::Client::builder()
            .connect_timeout(CONNECT)
            .read_timeout(SILENCE);
        let mut trust = Trust::default();
        if let Some(file) = connection.ca() {
            let wrong = |reason: String| Failure::usage(format!("{} is not a certificate: {reason}", file.display()));
            let pem = vastrelay_files::read_linked(&file, MOST_CERTIFICATE)
                .map_err(|e| wrong(vastrelay_files::reason(&e)))?;
            let certificate = CertificateDer::from_pem_slice(&pem).map_err(|e| wrong(e.to_string()))?;
            let root = reqwest::Certificate::from_der(&certificate).map_err(|e| wrong(e.to_string()))?;
            http = http.add_root_certificate(root);
            trust = Trust::Authorities(vec![certificate]);
        }
        let key = connection.key();
        let needs_no_key = key.is_none();
        Ok(Client {
            http: http.build().map_err(Failure::failed)?,
            operator: needs_no_key.then(|| OperatorClient::find(&url)).flatten(),
            trust,
            url,
            key,
        })
    }

    /// Gets an address and reads the answer.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        read(self.open(path).await?).await
    }

    /// Gets an address and reads the answer; `None` when there is nothing.
    pub async fn get_if_there<T: DeserializeOwned>(&self, path: &str) -> Result<Option<T>, Failure> {
        let response = self
            .request(Method::GET, path)
            .send()
            .await
            .map_err(|error| self.unreachable(&error))?;
        if response.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        read(accepted(response).await?).await.map(Some)
    }

    /// Posts JSON and returns the answer, when it is a success.
    pub async fn post(&self, path: &str, body: &impl serde::Serialize) -> Result<Response, Failure> {
        self.send(self.request(Method::POST, path).json(body)).await
    }

    /// Deletes what is at an address and reads the answer.
    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        read(self.send(self.request(Method::DELETE, path)).await?).await
    }

    /// Posts JSON and reads the answer.
    pub async fn post_for<T: DeserializeOwned>(&self, path: &str, body: &impl serde::Serialize) -> Result<T, Failure> {
        read(self.post(path, body).await?).await
    }

    /// Opens an address whose answer goes on and on.
    pub async fn open(&self, path: &str) -> Result<Response, Failure> {
        self.send(self.request(Method::GET, path)).await
    }

    /// Begins a request: a managing one over the operator's socket where that is there, any other one over TCP.
    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        match &self.operator {
            Some(operator) if path.starts_with("/manage/") => {
                operator.http.request(method, format!("http://localhost{path}"))
            }
            _ => {
                let request = self.http.request(method, format!("{}{path}", self.url));
                match &self.key {
                    Some(key) => request.bearer_auth(key),
                    None => request,
                }
            }
        }
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let response = request.send().await;
        accepted(response.map_err(|error| self.unreachable(&error))?).await
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        Failure::unreachable(format!("cannot reach {}: {}", self.url, reason(error)))
    }
}

/// Calls that are sometimes written behind the address of a service.
const CALLS: [&str; 4] = ["/v1/chat/completions", "/v1/completions", "/v1/models", "/v1"];

/// Returns the address of a service: `http://` may be left out, and a call's path behind it does not matter.
fn service_address(given: &str) -> Result<String, Failure> {
    let wrong = || {
        Failure::usage(format!(
            "`{given}` is not an address; write it like http://127.0.0.1:7411"
        ))
    };
    let whole = match given.contains("://") {
        true => given.to_owned(),
        false => format!("http://{given}"),
    };
    let trimmed = whole.trim_end_matches('/');
    let base = CALLS
        .iter()
        .find_map(|call| trimmed.strip_suffix(call))
        .unwrap_or(trimmed);
    let url = reqwest::Url::parse(base).map_err(|_| wrong())?;
    match matches!(url.scheme(), "http" | "https") && url.host().is_some() && !given.trim().is_empty() {
        true => Ok(base.to_owned()),
        false => Err(wrong()),
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
        Ok(envelope) => in_commands(&envelope.error.message),
        Err(_) => format!("the service answered {status}"),
    };
    Err(Failure::failed(message))
}

/// Hints of the service that name addresses, and the commands for them.
const COMMANDS: [(&str, &str); 8] = [
    ("POST /manage/keys makes", "`vastrelay key create` makes"),
    ("GET /manage/keys lists", "`vastrelay key list` lists"),
    ("GET /manage/runs lists", "`vastrelay load list` lists"),
    ("GET /manage/requests lists", "`vastrelay request list` lists"),
    ("GET /manage/jobs lists", "`vastrelay job list` lists"),
    ("POST /v1/completions", "`vastrelay ask --plain`"),
    ("POST /v1/chat/completions", "`vastrelay ask`"),
    (
        "its events say by whom",
        "`vastrelay event list --what stopped` says by whom",
    ),
];

/// Returns a message of the service with commands in the place of addresses.
fn in_commands(message: &str) -> String {
    let mut text = message.to_owned();
    for (address, command) in COMMANDS {
        text = text.replace(address, command);
    }
    let start = text.split_once("POST /manage/endpoints/").and_then(|(before, rest)| {
        let (name, after) = rest.split_once("/start serves")?;
        Some(format!("{before}`vastrelay endpoint start {name}` serves{after}"))
    });
    start.unwrap_or(text)
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
    } else if says(&["InvalidContentType", "corrupt message"]) {
        "something listens there that does not speak TLS; write http:// in place of https://".into()
    } else if says(&[
        "invalid HTTP version",
        "invalid HTTP",
        "unexpected EOF",
        "connection closed before message completed",
    ]) {
        "what listens there does not answer as a service; a service with a certificate has an https:// address".into()
    } else if error.is_timeout() {
        let (connect, silence) = (CONNECT.as_secs(), SILENCE.as_secs());
        format!("it does not answer (waited {connect} s to connect, or {silence} s for an answer)")
    } else {
        let last = causes.last().cloned().unwrap_or_default();
        last.split(" (os error").next().unwrap_or_default().to_lowercase()
    }
}

async fn read<T: DeserializeOwned>(response: Response) -> Result<T, Failure> {
    response.json().await.map_err(|_| {
        Failure::failed("the answer is not that of a service of this version; `vastrelay status` shows its version")
    })
}

#[cfg(test)]
mod tests {
    use super::{in_commands, service_address};

    #[test]
    fn hints_name_commands() {
        let text = in_commands("`desk` is stopped: why; POST /manage/endpoints/desk/start serves it again");
        assert!(
            text.ends_with("`vastrelay endpoint start desk` serves it again"),
            "{text}"
        );
        assert!(in_commands("no key; GET /manage/keys lists all keys").contains("vastrelay key list"));
    }

    #[test]
    fn a_call_behind_an_address_does_not_matter() {
        let base = "http://127.0.0.1:7411";
        for given in [
            base,
            "127.0.0.1:7411",
            "http://127.0.0.1:7411/",
            "http://127.0.0.1:7411/v1/",
            "http://127.0.0.1:7411/v1/chat/completions",
        ] {
            assert_eq!(service_address(given).unwrap(), base, "{given}");
        }
        assert_eq!(service_address("localhost:80").unwrap(), "http://localhost:80");
        for wrong in ["", "ftp://a", "http://", "a b"] {
            assert!(
                service_address(wrong)
                    .unwrap_err()
                    .to_string()
                    .contains("http://127.0.0.1:7411"),
                "{wrong}"
            );
        }
    }
}
