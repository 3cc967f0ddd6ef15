//! Tells an address when an endpoint becomes ready or fails.

use crate::endpoints::Endpoints;
use reqwest::redirect::Policy;
use reqwest::{Client, Url};
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;
use vastrelay_fleet::State;
use vastrelay_store::milliseconds_since_1970;

/// How long the address may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);
/// How often it is told, and the pauses before it is told again.
const PAUSES: [Duration; 3] = [Duration::ZERO, Duration::from_secs(1), Duration::from_secs(4)];

/// Tells an address.
pub(crate) struct Herald {
    client: Client,
    to: Url,
    /// What was told last, by endpoint.
    told: HashMap<String, Told>,
}

/// What is to be told of an endpoint: its state and its release.
type Told = (State, u32);

impl Herald {
    /// Returns what tells an address; it is not followed elsewhere.
    ///
    /// # Errors
    /// When there can be no client.
    pub fn of(to: Url) -> Result<Herald, reqwest::Error> {
        let client = Client::builder()
            .redirect(Policy::none())
            .timeout(PATIENCE)
            .no_proxy()
            .build()?;
        Ok(Herald {
            client,
            to,
            told: HashMap::new(),
        })
    }

    /// Looks at endpoints and tells what is new.
    pub fn look(&mut self, endpoints: &Endpoints) {
        let now = now(endpoints);
        for (name, why) in news(&mut self.told, &now) {
            let (state, release) = now[&name].0;
            let body = json!({
                "endpoint": name,
                "release": release,
                "state": state.name(),
                "why": why,
                "at_ms": milliseconds_since_1970(),
            });
            tokio::spawn(tell(self.client.clone(), self.to.clone(), body));
        }
    }
}

/// Returns how endpoints stand, and why.
fn now(endpoints: &Endpoints) -> BTreeMap<String, (Told, Option<String>)> {
    let resting = endpoints.resting().into_iter();
    let mut all: BTreeMap<String, (Told, Option<String>)> = resting
        .map(|(name, resting)| (name, ((resting.state, 0), Some(resting.why))))
        .collect();
    for endpoint in endpoints.all() {
        let why = endpoint.crew.failure();
        all.insert(endpoint.name.clone(), ((endpoint.crew.state(), endpoint.release), why));
    }
    all
}

/// Returns who has become ready or has failed since that was told, and notes it. What was stopped or removed is told anew when it is back.
fn news(
    told: &mut HashMap<String, Told>,
    now: &BTreeMap<String, (Told, Option<String>)>,
) -> Vec<(String, Option<String>)> {
    told.retain(|name, _| now.get(name).is_some_and(|((state, _), _)| *state != State::Stopped));
    let mut news = Vec::new();
    for (name, (stands, why)) in now {
        let is_news = matches!(stands.0, State::Ready | State::Failed);
        if is_news && told.get(name) != Some(stands) {
            told.insert(name.clone(), *stands);
            news.push((name.clone(), why.clone().filter(|_| stands.0 == State::Failed)));
        }
    }
    news
}

async fn tell(client: Client, to: Url, body: Value) {
    // An address may hold a secret, so only its host is named.
    let host = to.host_str().unwrap_or_default().to_owned();
    for pause in PAUSES {
        tokio::time::sleep(pause).await;
        match client.post(to.clone()).json(&body).send().await {
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

    #[test]
    fn each_change_is_told_once_and_parking_is_none() {
        let mut told = HashMap::new();
        let mut look = |state, release| {
            let now = BTreeMap::from([("desk".to_owned(), ((state, release), Some("why".to_owned())))]);
            news(&mut told, &now)
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
