//! Text about an endpoint's state, in addition to the decider's state.

use super::terms::SpecText;
use std::time::Duration;

/// Text about an endpoint's state.
#[derive(Debug, Default)]
pub(super) struct Note {
    /// Why it is stopped.
    pub stopped: String,
    /// Why it is parked.
    pub parked: String,
    /// Whether the database has it as parked.
    pub is_kept_as_parked: bool,
    /// Whether it was served when the service began, and has not started since.
    pub at_start: bool,
    /// The caller for whom it starts.
    pub called_by: Option<String>,
    /// Longest that a call waits while it has no replica.
    pub longest_wait: Option<Duration>,
}

impl Note {
    /// Lets calls wait as long as a spec says.
    pub fn waits_as_in(&mut self, name: &str, spec: &SpecText) {
        let order = spec.order(name).ok();
        self.longest_wait = order.and_then(|order| order.spec.answering.longest_wait);
    }

    /// Returns why it is stopped.
    pub fn why_stopped(&self) -> String {
        match self.stopped.as_str() {
            "" => "it was stopped".into(),
            why => why.into(),
        }
    }
}
