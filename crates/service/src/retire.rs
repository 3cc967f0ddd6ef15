//! Ends an endpoint that is not called any more: its calls are answered first.

use crate::endpoint::Endpoint;
use std::sync::{Arc, Weak};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use vastrelay_serving::device::HeldMemory;

/// Time between two looks at whether its calls have ended.
const LOOK: Duration = Duration::from_millis(20);

/// How long memory may take to be given back.
const MEMORY_LIMIT: Duration = Duration::from_secs(5);
/// Time between two looks at it.
const LOOK_AT_MEMORY: Duration = Duration::from_millis(5);

/// Waits until the memory of an endpoint that is not served any more is anybody's.
pub(crate) fn wait_for_memory(held: &Weak<HeldMemory>) {
    let until = Instant::now() + MEMORY_LIMIT;
    while held.strong_count() > 0 && Instant::now() < until {
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
