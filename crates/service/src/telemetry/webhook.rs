//! Tells an address when an endpoint becomes ready or fails.

use reqwest::redirect::Policy;
use reqwest::{Client, Url};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;
use tokio::sync::watch;
use vastrelay_control::endpoints::registry::{Endpoints, FailedDeployment};
use vastrelay_fleet::State;
use vastrelay_store::milliseconds_since_1970;

/// How long the address may take to answer.
const LONGEST_WAIT: Duration = Duration::from_secs(5);
/// The pauses before each try to deliver.
const PAUSES: [Duration; 3] = [Duration::ZERO, Duration::from_secs(1), Duration::from_secs(4)];

/// Tells an address.
pub(crate) struct Webhook {
    client: Client,
    to: Url,
    /// The last announced state, by endpoint.
    announced: HashMap<String, Announced>,
    /// Delivers the newest state of each endpoint, one after the other: an older one never arrives after a newer one.
    deliveries: HashMap<String, watch::Sender<Value>>,
}

/// The announced facts of an endpoint: its state and its release.
type Announced = (State, u32);

impl Webhook {
    /// Returns what tells an address; it is not followed elsewhere.
    ///
    /// # Errors
    /// When there can be no client.
    pub fn of(to: Url) -> Result<Webhook, reqwest::Error> {
        let client = Client::builder()
            .redirect(Policy::none())
            .timeout(LONGEST_WAIT)
            .no_proxy()
            .build()?;
        Ok(Webhook {
            client,
            to,
            announced: HashMap::new(),
            deliveries: HashMap::new(),
        })
    }

    /// Looks at endpoints and announces their changes.
    pub fn look(&mut self, endpoints: &Endpoints) {
        let now = now(endpoints);
        for (name, why) in news(&mut self.announced, &now) {
            let (state, release) = now[&name].0;
            let body = json!({
                "endpoint": name,
                "release": release,
                "state": state.name(),
                "why": why,
                "at_ms": milliseconds_since_1970(),
            });
            self.deliver(name, body);
        }
        self.deliveries.retain(|name, _| now.contains_key(name));
        for FailedDeployment { name, why } in endpoints.take_failed() {
            let state_of = now.get(&name).map(|(state_of, _)| *state_of);
            let body = json!({
                "endpoint": name,
                "release": state_of.map_or(0, |(_, release)| release),
                "state": state_of.map(|(state, _)| state.name()),
                "deployment": "failed",
                "why": why,
                "at_ms": milliseconds_since_1970(),
            });
            let (client, to) = (self.client.clone(), self.to.clone());
            tokio::spawn(async move { notify(&client, &to, &body, || false).await });
        }
    }

    fn deliver(&mut self, name: String, body: Value) {
        if let Some(delivery) = self.deliveries.get(&name) {
            delivery.send_replace(body);
            return;
        }
        let (delivery, newest) = watch::channel(body);
        tokio::spawn(notify_of_each(self.client.clone(), self.to.clone(), newest));
        self.deliveries.insert(name, delivery);
    }
}

/// Tells an endpoint's states in their order, one delivery after the other, and drops those that are overtaken while they wait.
async fn notify_of_each(client: Client, to: Url, mut newest: watch::Receiver<Value>) {
    loop {
        let body = newest.borrow_and_update().clone();
        notify(&client, &to, &body, || newest.has_changed().unwrap_or(false)).await;
        if newest.changed().await.is_err() {
            return;
        }
    }
}

/// Returns how endpoints stand, and why.
fn now(endpoints: &Endpoints) -> BTreeMap<String, (Announced, Option<String>)> {
    let resting = endpoints.resting().into_iter();
    let mut all: BTreeMap<String, (Announced, Option<String>)> = resting
        .map(|(name, resting)| (name, ((resting.state, 0), Some(resting.why))))
        .collect();
    for endpoint in endpoints.all() {
        let why = endpoint.replicas.failure();
        all.insert(
            endpoint.name.clone(),
            ((endpoint.replicas.state(), endpoint.release), why),
        );
    }
    all
}

/// Returns the endpoints that have become ready or have failed since the last announcement, and notes them. A stopped or removed endpoint
/// is announced again when it is back.
fn news(
    announced: &mut HashMap<String, Announced>,
    now: &BTreeMap<String, (Announced, Option<String>)>,
) -> Vec<(String, Option<String>)> {
    announced.retain(|name, _| now.get(name).is_some_and(|((state, _), _)| *state != State::Stopped));
    let mut news = Vec::new();
    for (name, (state_of, why)) in now {
        let is_news = matches!(state_of.0, State::Ready | State::Failed);
        if is_news && announced.get(name) != Some(state_of) {
            announced.insert(name.clone(), *state_of);
            news.push((name.clone(), why.clone().filter(|_| state_of.0 == State::Failed)));
        }
    }
    news
}

/// Sends a message, with further tries until it is overtaken.
async fn notify(client: &Client, to: &Url, body: &Value, is_overtaken: impl Fn() -> bool) {
    // An address may hold a secret, so only its host is named.
    let host = to.host_str().unwrap_or_default();
    for pause in PAUSES {
        tokio::time::sleep(pause).await;
        if is_overtaken() {
            return;
        }
        match client.post(to.clone()).json(body).send().await {
            Ok(answer) if answer.status().is_success() => return,
            Ok(answer) => tracing::warn!(
                host,
                status = answer.status().as_u16(),
                "an endpoint's state was not taken"
            ),
            Err(error) => tracing::warn!(host, error = %error.without_url(), "an endpoint's state could not be told"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn an_older_state_never_arrives_after_a_newer_one() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let to: Url = format!("http://{}/", listener.local_addr().unwrap()).parse().unwrap();
        let (delivery, newest) = watch::channel(json!(1));
        let telling = tokio::spawn(notify_of_each(
            Client::builder().no_proxy().build().unwrap(),
            to,
            newest,
        ));
        let mut arrived = Vec::new();
        // The first delivery of each state fails, and the second state comes while the first one waits for its next try.
        for answer in ["500 Internal Server Error", "500 Internal Server Error", "200 OK"] {
            let (mut stream, _) = listener.accept().await.unwrap();
            let mut request = vec![0; 4_096];
            let read = tokio::io::AsyncReadExt::read(&mut stream, &mut request).await.unwrap();
            let text = String::from_utf8_lossy(&request[..read]).into_owned();
            arrived.push(text.trim_end().chars().last().unwrap());
            if arrived.len() == 1 {
                delivery.send_replace(json!(2));
            }
            let answer = format!("HTTP/1.1 {answer}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
            tokio::io::AsyncWriteExt::write_all(&mut stream, answer.as_bytes())
                .await
                .unwrap();
        }
        assert_eq!(arrived, ['1', '2', '2']);
        drop(delivery);
        telling.await.unwrap();
    }

    #[test]
    fn each_change_is_told_once_and_parking_is_none() {
        let mut announced = HashMap::new();
        let mut look = |state, release| {
            let now = BTreeMap::from([("desk".to_owned(), ((state, release), Some("why".to_owned())))]);
            news(&mut announced, &now)
        };
        assert_eq!(look(State::Starting, 1), []);
        assert_eq!(look(State::Ready, 1), [("desk".into(), None)]);
        for state in [
            State::Ready,
            State::Parked,
            State::Starting,
            State::Ready,
            State::Degraded,
        ] {
            assert_eq!(look(state, 1), [], "{state:?}");
        }
        assert_eq!(look(State::Failed, 1), [("desk".into(), Some("why".into()))]);
        assert_eq!(look(State::Ready, 2), [("desk".into(), None)]);
        assert_eq!(look(State::Stopped, 0), []);
        assert_eq!(look(State::Ready, 2), [("desk".into(), None)]);
    }
}
