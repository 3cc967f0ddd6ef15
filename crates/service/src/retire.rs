//! Ends an endpoint that is not called any more: its calls are answered first.

use crate::endpoint::Endpoint;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use vastrelay_serving::device::Ticket;

/// Time between two looks at whether its calls have ended.
const LOOK: Duration = Duration::from_millis(20);

/// How long memory may take to be given back.
const MEMORY_LIMIT: Duration = Duration::from_secs(5);
/// Time between two looks at it.
const LOOK_AT_MEMORY: Duration = Duration::from_millis(5);

/// What endpoints hold that are not served any more, and give back soon.
#[derive(Default)]
pub(crate) struct Leaving(Mutex<Vec<Ticket>>);

impl Leaving {
    /// Notes that an endpoint gives back what it holds as soon as its last call has ended.
    pub fn note(&self, endpoint: Option<&Endpoint>) {
        let mut leaving = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        leaving.retain(Ticket::is_held);
        leaving.extend(endpoint.map(|endpoint| endpoint.plan.held.ticket()));
    }

    /// Returns what is held now.
    pub fn now(&self) -> Vec<Ticket> {
        let leaving = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        leaving.iter().filter(|ticket| ticket.is_held()).cloned().collect()
    }
}

/// Waits for a while until nothing of this is held any more.
pub(crate) fn wait_for_memory(leaving: &[Ticket]) {
    let until = Instant::now() + MEMORY_LIMIT;
    while leaving.iter().any(Ticket::is_held) && Instant::now() < until {
        std::thread::sleep(LOOK_AT_MEMORY);
    }
}

/// Lets the calls of an endpoint end, for so long at most, and then its replicas. What has not ended by then ends with an error.
///
/// # Errors
/// When the system refuses a thread.
pub(crate) fn retire(endpoint: Arc<Endpoint>, within: Option<Duration>) -> std::io::Result<JoinHandle<()>> {
    let thread = std::thread::Builder::new().name("retire".into());
    thread.spawn(move || {
        let until = within.and_then(|within| Instant::now().checked_add(within));
        let mut is_closed = false;
        // Whoever answers a call holds the endpoint.
        while Arc::strong_count(&endpoint) > 1 || endpoint.shares_its_crew() {
            if !is_closed && until.is_some_and(|until| Instant::now() >= until) {
                is_closed = true;
                endpoint.crew.close();
            }
            std::thread::sleep(LOOK);
        }
    })
}
