//! From the wall clock, by which the system notes arrivals, to the clock by which durations are measured.

use nix::sys::time::TimeSpec;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// Within this, two clocks are read at once.
const AT_ONCE: Duration = Duration::from_micros(20);
/// How often that is tried.
const TRIES: usize = 3;

/// Returns the moment of a note of the system's; now, when it lies in the future, as it does after the wall clock was set.
pub(crate) fn moment(noted: TimeSpec) -> Instant {
    let (now, wall) = both_clocks();
    let age = wall
        .duration_since(UNIX_EPOCH + Duration::from(noted))
        .unwrap_or_default();
    now.checked_sub(age).unwrap_or(now)
}

/// Reads both clocks at once, as nearly as that goes: again where something came between.
fn both_clocks() -> (Instant, SystemTime) {
    let mut read = (Instant::now(), SystemTime::now());
    for _ in 0..TRIES {
        if read.0.elapsed() < AT_ONCE {
            break;
        }
        read = (Instant::now(), SystemTime::now());
    }
    read
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noted(at: SystemTime) -> TimeSpec {
        TimeSpec::from(at.duration_since(UNIX_EPOCH).unwrap())
    }

    #[test]
    fn notes_become_moments_and_the_future_is_now() {
        let before = Instant::now();
        let second = Duration::from_secs(1);
        let past = moment(noted(SystemTime::now() - second));
        assert!(past < before && past + second >= before, "{past:?} {before:?}");
        let future = moment(noted(SystemTime::now() + Duration::from_secs(3600)));
        assert!(future >= before && future <= Instant::now());
        assert!(
            moment(noted(UNIX_EPOCH)) <= Instant::now(),
            "before the machine was started"
        );
    }
}
