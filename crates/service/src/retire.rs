//! Ends an endpoint that is not called any more: its calls are answered first.

use crate::endpoint::Endpoint;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Time between two looks at whether its calls have ended.
const LOOK: Duration = Duration::from_millis(20);

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
        while Arc::strong_count(&endpoint) > 1 {
            if !is_closed && until.is_some_and(|until| Instant::now() >= until) {
                is_closed = true;
                endpoint.close();
            }
            std::thread::sleep(LOOK);
        }
    })
}
