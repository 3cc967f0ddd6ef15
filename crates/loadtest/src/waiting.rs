//! Waiting for a moment more exactly than by the millisecond.
//!
//! The runtime's timers fire on whole milliseconds and up to two of them late. Waiting those out awake would take a core from
//! the service that is being measured, so most of them are slept through by a thread, which the system wakes more exactly.

use std::thread::sleep;
use std::time::Duration;
use tokio::task::{spawn_blocking, yield_now};
use tokio::time::{Instant, sleep_until};

/// How late the runtime's timers may be: up to two of their milliseconds, and a busy moment more.
const RUNTIME_GRAIN: Duration = Duration::from_millis(5);
/// How late a thread may run after the system was to wake it, and another after that.
const WAKING: Duration = Duration::from_micros(300);

/// Waits for a moment, letting others run meanwhile. Where time stands still unless it is slept through, as it does in tests,
/// only the runtime's own timer is used.
pub(crate) async fn reach(moment: Instant) {
    if let Some(early) = moment.checked_sub(RUNTIME_GRAIN) {
        sleep_until(early).await;
    }
    let before = Instant::now();
    yield_now().await;
    if Instant::now() == before {
        return sleep_until(moment).await;
    }
    let left = moment.saturating_duration_since(Instant::now());
    if left > WAKING {
        // It cannot fail but with the runtime's own end.
        let _ = spawn_blocking(move || sleep(left - WAKING)).await;
    }
    while Instant::now() < moment {
        yield_now().await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_moment_is_reached_and_not_before() {
        for microseconds in [0, 100, 900, 2_500, 7_300] {
            let moment = Instant::now() + Duration::from_micros(microseconds);
            reach(moment).await;
            assert!(Instant::now() >= moment);
        }
    }

    #[tokio::test]
    async fn others_run_while_one_waits() {
        let until = Instant::now() + Duration::from_millis(300);
        let waiting = tokio::spawn(reach(until));
        let mut turns = 0;
        while !waiting.is_finished() {
            yield_now().await;
            turns += 1;
        }
        assert!(turns > 10 && Instant::now() >= until, "{turns}");
    }

    #[tokio::test(start_paused = true)]
    async fn where_time_stands_still_it_is_slept_through() {
        let begun = Instant::now();
        reach(begun + Duration::from_secs(3600)).await;
        assert_eq!(begun.elapsed(), Duration::from_secs(3600));
    }
}
