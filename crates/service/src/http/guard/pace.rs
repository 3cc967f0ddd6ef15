//! Large bodies come in at a pace that leaves the threads that receive them time for everybody else.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::time::{Instant, sleep_until};

/// Bytes of a body that are received without waiting.
pub(super) const STEP: usize = 1 << 20;
/// Time for as many bytes of all large bodies together: 32 MiB a second.
const EACH: Duration = Duration::from_micros(31_250);

/// The pace of all large bodies together. Clones share it.
#[derive(Clone)]
pub(crate) struct Pace {
    next: Arc<Mutex<Instant>>,
}

impl Pace {
    pub fn new() -> Pace {
        Pace {
            next: Arc::new(Mutex::new(Instant::now())),
        }
    }

    /// Waits until [`STEP`] bytes more may come.
    pub(super) async fn wait(&self) {
        let due = self.take_turn(Instant::now());
        sleep_until(due).await;
    }

    /// Takes the next turn there is; returns when it comes.
    fn take_turn(&self, now: Instant) -> Instant {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let due = (*next).max(now) + EACH;
        *next = due;
        due
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_large_bodies_share_one_pace_and_rest_is_not_saved_up() {
        let pace = Pace::new();
        let now = Instant::now() + Duration::from_secs(60);
        let turns: Vec<Instant> = (0..3).map(|_| pace.clone().take_turn(now)).collect();
        assert_eq!(turns, [now + EACH, now + 2 * EACH, now + 3 * EACH]);
        let later = now + Duration::from_secs(60);
        assert_eq!(pace.take_turn(later), later + EACH);
    }
}
