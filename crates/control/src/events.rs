//! What happens to an endpoint, put down for those who look back.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use vastrelay_store::{EventRecord, Store, milliseconds_since_1970};
use vastrelay_wire::manage::EventKind;

/// The author of actions that no caller requested.
pub const SERVICE: &str = "service";
/// The author of deployments from the command line of the service.
pub const START: &str = "start";

/// Puts down what happens to one endpoint.
#[derive(Clone)]
pub struct EventLog {
    store: Arc<Store>,
    endpoint: String,
    /// The release that is served; clones share it.
    release: Arc<AtomicU32>,
}

impl EventLog {
    /// Returns what puts down what happens to an endpoint, which is served as a release.
    pub fn new(store: &Arc<Store>, endpoint: &str, release: u32) -> EventLog {
        EventLog {
            store: store.clone(),
            endpoint: endpoint.to_owned(),
            release: Arc::new(AtomicU32::new(release)),
        }
    }

    /// Returns the number of the release that is served.
    pub fn release(&self) -> u32 {
        self.release.load(Ordering::Acquire)
    }

    /// Notes that another release is served from now on, by the same replicas.
    pub fn goes_on_as(&self, release: u32) {
        self.release.store(release, Ordering::Release);
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
        self.store.note(EventRecord {
            number: 0,
            at_ms: milliseconds_since_1970(),
            endpoint: self.endpoint.clone(),
            release: self.release(),
            replica,
            what: what.name().into(),
            who: who.to_owned(),
            why,
        });
    }
}
