//! What happens to an endpoint, put down for those who look back.

use crate::records::Records;
use std::sync::Arc;
use vastrelay_store::{EventRecord, milliseconds_since_1970};
use vastrelay_wire::manage::EventKind;

/// Who does what nobody asked for.
pub(crate) const SERVICE: &str = "service";
/// Who deploys what a service begins with.
pub const START: &str = "start";

/// Puts down what happens to one endpoint.
#[derive(Clone)]
pub(crate) struct EventLog {
    records: Arc<Records>,
    endpoint: String,
    release: u32,
}

impl EventLog {
    pub fn new(records: &Arc<Records>, endpoint: &str, release: u32) -> EventLog {
        EventLog {
            records: records.clone(),
            endpoint: endpoint.to_owned(),
            release,
        }
    }

    /// Puts down what somebody did to the endpoint.
    pub fn done_by(&self, who: &str, what: EventKind, why: impl Into<String>) {
        self.keep(0, who, what, why.into());
    }

    /// Puts down what happened to a replica.
    pub fn happened(&self, replica: u32, what: EventKind, why: impl Into<String>) {
        self.keep(replica, SERVICE, what, why.into());
    }

    fn keep(&self, replica: u32, who: &str, what: EventKind, why: String) {
        self.records.store.note(EventRecord {
            number: 0,
            at_ms: milliseconds_since_1970(),
            endpoint: self.endpoint.clone(),
            release: self.release,
            replica,
            what: what.name().into(),
            who: who.to_owned(),
            why,
        });
    }
}
