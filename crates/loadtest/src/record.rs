//! What is noted while a load is sent.

use serde::{Deserialize, Serialize};
use vastrelay_wire::manage::EndpointStatus;

/// To what a load was sent.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Setup {
    /// The service's address.
    pub url: String,
    /// Cores of the machine that sent the load.
    pub generator_cores: usize,
    /// How the endpoint stood before, where the service tells.
    pub before: Option<EndpointStatus>,
    /// How it stood after.
    pub after: Option<EndpointStatus>,
}

impl Setup {
    /// Returns what happened to the endpoint between the looks before and after: another release, or another life of a replica.
    pub(crate) fn changes(&self) -> Vec<String> {
        let (Some(before), Some(after)) = (&self.before, &self.after) else {
            return Vec::new();
        };
        if before.release != after.release {
            let (old, new) = (before.release, after.release);
            return vec![format!("release {old} was replaced by release {new} during the run")];
        }
        let restarted = after.replicas.iter().filter(|replica| {
            let earlier = before
                .replicas
                .iter()
                .find(|earlier| earlier.replica == replica.replica);
            earlier.is_some_and(|earlier| earlier.incarnation != replica.incarnation)
        });
        restarted
            .map(|replica| format!("replica {} was started again during the run", replica.replica))
            .collect()
    }
}

/// One request. Moments in seconds from the start.
#[derive(Clone, Debug, Default, Serialize, Deserialize, PartialEq)]
pub struct RequestRecord {
    /// When it should have been sent; durations count from here, so that a service that stalls cannot hide it by keeping
    /// the generator from sending.
    pub due: f64,
    /// When it was sent.
    pub sent: f64,
    /// When the first token came.
    pub first_token: Option<f64>,
    /// When it was over.
    pub ended: f64,
    /// The gaps between tokens, in microseconds.
    pub gaps_us: Vec<u32>,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the cache.
    pub reused_tokens: usize,
    /// Tokens of the answer.
    pub output_tokens: usize,
    /// What went wrong, by kind.
    pub error: Option<String>,
}

impl RequestRecord {
    /// Returns the time to its first token.
    pub fn ttft(&self) -> Option<f64> {
        self.first_token.map(|at| at - self.due)
    }

    /// Returns the time to its end.
    pub fn total(&self) -> f64 {
        self.ended - self.due
    }

    /// Returns the gaps in seconds.
    pub fn gaps(&self) -> impl Iterator<Item = f64> {
        self.gaps_us.iter().map(|gap| f64::from(*gap) / 1e6)
    }

    /// Returns the moments at which its tokens came, in seconds from the start.
    pub fn token_moments(&self) -> impl Iterator<Item = f64> {
        let later = self.first_token.into_iter().flat_map(|first| {
            self.gaps().scan(first, |at, gap| {
                *at += gap;
                Some(*at)
            })
        });
        self.first_token.into_iter().chain(later)
    }

    /// Returns whether no token came later than a reader of so many tokens a second, who began at the first, wanted it.
    pub fn kept_pace(&self, pace: f64) -> bool {
        let mut at = 0.0;
        self.gaps().enumerate().all(|(index, gap)| {
            at += gap;
            at <= (index + 1) as f64 / pace + 1e-9
        })
    }
}

/// How things stood at one moment.
#[derive(Clone, Debug, Default, Serialize, Deserialize, PartialEq)]
pub struct Sample {
    /// Seconds from the start.
    pub at: f64,
    /// Requests sent and not over, on this side.
    pub running: usize,
    /// The service's side, where it tells.
    pub service: Option<ServiceSample>,
}

/// The service's side at one moment.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, PartialEq)]
pub struct ServiceSample {
    /// Sequences accepted and not in the batch.
    pub queue_depth: usize,
    /// Sequences in the batch.
    pub lanes_used: usize,
    /// KV pages held.
    pub pages_used: usize,
    /// Preemptions so far.
    pub preemptions: u64,
    /// Seconds that the device was busy so far.
    pub busy: f64,
}
