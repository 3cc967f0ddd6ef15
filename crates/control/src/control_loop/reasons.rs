//! Text about an endpoint's state, in addition to the decider's state.

use super::terms::SpecText;
use std::time::Duration;

/// Text about an endpoint's state.
#[derive(Debug, Default)]
pub(super) struct Reasons {
    /// Why it is stopped.
    pub stopped: String,
    /// Why it is parked.
    pub parked: String,
    /// Whether the database has it as parked.
    pub is_stored_as_parked: bool,
    /// Whether it was served when the service began, and has not started since.
    pub at_start: bool,
    /// The caller for whom it starts.
    pub called_by: Option<String>,
    /// Longest that a call waits while it has no replica.
    pub longest_wait: Option<Duration>,
}

impl Reasons {
    /// Lets calls wait as long as a spec says.
    pub fn waits_as_in(&mut self, name: &str, spec: &SpecText) {
        let request = spec.request(name).ok();
        self.longest_wait = request.and_then(|request| request.spec.answering.longest_wait);
    }

    /// Returns why it is stopped.
    pub fn why_stopped(&self) -> String {
        match self.stopped.as_str() {
            "" => "it was stopped before this service began; its events say by whom".into(),
            why => why.into(),
        }
    }
}
