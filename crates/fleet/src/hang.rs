//! When a worker that says nothing is taken for hung.

use std::time::Duration;

/// Shortest silence that is a hang unless somebody says otherwise.
pub const USUAL_SILENCE: Duration = Duration::from_secs(60);
/// How many times as long as it should a step may take.
const TIMES: f64 = 20.0;

/// Returns whether a worker that has something to do hangs: it has said nothing for longer than `least`, and for far longer than its longest
/// step should take, in seconds, as far as that is known.
pub fn is_hung(silence: Duration, has_work: bool, least: Duration, longest_step: f64) -> bool {
    has_work && silence >= least && silence.as_secs_f64() >= TIMES * longest_step
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn silence_is_a_hang_only_with_work_and_beyond_what_steps_take() {
        let hung = |seconds, has_work, step| is_hung(Duration::from_secs(seconds), has_work, USUAL_SILENCE, step);
        assert!(hung(61, true, 0.1));
        assert!(!hung(61, false, 0.1));
        assert!(!hung(59, true, 0.1));
        assert!(!hung(61, true, 10.0), "steps of ten seconds may take longer");
        assert!(hung(201, true, 10.0));
    }
}
