//! When a worker that says nothing is taken for hung.

use std::time::Duration;

/// Shortest silence that is a hang unless somebody says otherwise.
pub const USUAL_SILENCE: Duration = Duration::from_secs(60);
/// How many times as long as it should a step may take.
const TIMES: f64 = 20.0;

/// What the steps of a worker took so far.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Pace {
    /// Steps.
    pub steps: u64,
    /// Tokens that they computed.
    pub tokens: u64,
    /// Seconds that they took.
    pub seconds: f64,
}

impl Pace {
    /// Returns how many seconds a step of so many tokens should take: not less than steps take in the mean, or so many tokens do; nothing is
    /// expected of who has not made a step.
    pub fn expected(self, tokens: usize) -> f64 {
        let mean = |count: u64| self.seconds / count.max(1) as f64;
        mean(self.steps).max(tokens as f64 * mean(self.tokens))
    }
}

/// Returns whether a worker that has something to do hangs: it has said nothing for longer than `least`, and for far longer than its step
/// should take, in seconds.
pub fn is_hung(silence: Duration, has_work: bool, least: Duration, expected: f64) -> bool {
    has_work && silence >= least && silence.as_secs_f64() >= TIMES * expected
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn silence_is_a_hang_only_with_work_and_beyond_what_the_step_should_take() {
        let hung = |seconds, has_work, step| is_hung(Duration::from_secs(seconds), has_work, USUAL_SILENCE, step);
        assert!(hung(61, true, 0.1));
        assert!(!hung(61, false, 0.1));
        assert!(!hung(59, true, 0.1));
        assert!(!hung(61, true, 10.0), "steps of ten seconds may take longer");
        assert!(hung(201, true, 10.0));
    }

    #[test]
    fn a_step_of_a_long_prompt_may_take_longer_than_those_before() {
        let pace = Pace {
            steps: 1_000,
            tokens: 2_000,
            seconds: 20.0,
        };
        assert_eq!(pace.expected(1), 0.02);
        assert_eq!(pace.expected(2), 0.02);
        assert_eq!(pace.expected(1_000), 10.0);
        assert_eq!(Pace::default().expected(1_000), 0.0);
    }
}
