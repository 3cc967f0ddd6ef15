//! Ends an endpoint that is not called any more: its calls are answered first.

use crate::endpoint::Endpoint;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use vastrelay_serving::device::HeldMemory;

/// Time between two looks at whether its calls have ended.
const LOOK: Duration = Duration::from_millis(20);

/// How long memory may take to be given back.
const MEMORY_LIMIT: Duration = Duration::from_secs(5);
/// Time between two looks at it.
const LOOK_AT_MEMORY: Duration = Duration::from_millis(5);

/// What endpoints hold that are not served any more, and give back soon.
#[derive(Default)]
pub(crate) struct Leaving(Mutex<Vec<Weak<HeldMemory>>>);

impl Leaving {
    /// Notes that an endpoint gives back what it holds as soon as its last call has ended.
    pub fn note(&self, endpoint: Option<&Endpoint>) {
        let mut leaving = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        leaving.retain(|held| held.strong_count() > 0);
        leaving.extend(endpoint.map(|endpoint| Arc::downgrade(&endpoint.plan.held)));
    }

    /// Waits for a while until nothing is held any more by those that leave; returns whether anything was.
    pub fn wait(&self) -> bool {
        let leaving = self.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let until = Instant::now() + MEMORY_LIMIT;
        let is_held = || leaving.iter().any(|held| held.strong_count() > 0);
        let was_held = is_held();
        while is_held() && Instant::now() < until {
            std::thread::sleep(LOOK_AT_MEMORY);
        }
        was_held
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
