//! When a worker that says nothing is taken for hung.

use std::time::Duration;

/// Shortest silence that is a hang by default.
pub const USUAL_SILENCE: Duration = Duration::from_secs(60);
/// Time in which an idle engine answers a ping, longer by its longest step.
const ANSWER_LIMIT: Duration = Duration::from_secs(10);
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
    /// Most seconds that a token may take of the first step, of which nothing is known.
    pub first_token: f64,
}

/// How slow a thread of a processor may compute, in operations a second, before anything was measured.
const LEAST_RATE: f64 = 2e9;
/// The same of a simulated device.
const LEAST_SIMULATED_RATE: f64 = 2e12;

/// Returns the most seconds that a token of the first step of a model may take: two operations for each parameter.
pub fn first_token(parameters: usize, threads: usize, is_simulated: bool) -> f64 {
    let rate = if is_simulated { LEAST_SIMULATED_RATE } else { LEAST_RATE };
    2.0 * parameters as f64 / (rate * threads.max(1) as f64)
}

/// The silence of a worker, as far as it was watched.
///
/// A service that was stopped itself for a while, with its machine or by a signal, has not watched, and what its workers
/// said meanwhile still lies unread.
#[derive(Clone, Copy, Debug, Default)]
pub struct Watched {
    silent: Duration,
    last_look: Option<Duration>,
    last_heard: Option<Duration>,
}

impl Watched {
    /// Takes a look at a moment, when the worker was last heard at another one, both on one clock; looks come at least every
    /// `pace` while the service runs. Returns for how long the worker has been silent while it was watched.
    pub fn look(&mut self, now: Duration, heard: Duration, pace: Duration) -> Duration {
        let since = self.last_look.map_or(Duration::ZERO, |last| now.saturating_sub(last));
        self.last_look = Some(now);
        if self.last_heard.replace(heard) != Some(heard) {
            self.silent = now.saturating_sub(heard).min(pace);
        } else {
            self.silent += since.min(pace);
        }
        self.silent
    }
}

impl Pace {
    /// Returns how many seconds a step of so many tokens should take: not less than steps take in the mean, or so many tokens do. The first
    /// step may take as long as a slow processor would.
    pub fn expected(self, tokens: usize) -> f64 {
        if self.steps == 0 {
            return tokens as f64 * self.first_token;
        }
        let mean = |count: u64| self.seconds / count.max(1) as f64;
        mean(self.steps).max(tokens as f64 * mean(self.tokens))
    }
}

/// Returns whether a worker that has something to do hangs: it has said nothing for longer than `least`, and for far longer than its step
/// should take, in seconds.
pub fn is_hung(silence: Duration, has_work: bool, least: Duration, expected: f64) -> bool {
    has_work && silence >= least && silence.as_secs_f64() >= TIMES * expected
}

/// Returns whether a worker is frozen that was asked for a sign of life so long ago: its engine's thread answers between steps, the
/// longest of which should take so many seconds.
pub fn is_frozen(unanswered: Duration, longest_step: f64) -> bool {
    unanswered.as_secs_f64() >= ANSWER_LIMIT.as_secs_f64() + longest_step
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
            first_token: 1.0,
        };
        assert_eq!(pace.expected(1), 0.02);
        assert_eq!(pace.expected(2), 0.02);
        assert_eq!(pace.expected(1_000), 10.0);
    }

    #[test]
    fn the_first_step_of_a_fresh_worker_may_take_as_long_as_a_slow_processor_would() {
        let fresh = Pace {
            first_token: first_token(1_100_000_000, 2, false),
            ..Pace::default()
        };
        let expected = fresh.expected(512);
        assert!(
            !is_hung(Duration::from_secs(70), true, USUAL_SILENCE, expected),
            "{expected}"
        );
        let small = first_token(2_000_000, 1, false) * 64.0;
        assert!(is_hung(Duration::from_secs(61), true, USUAL_SILENCE, small), "{small}");
    }

    #[test]
    fn an_idle_worker_is_frozen_ten_seconds_and_its_longest_step_after_a_ping() {
        assert!(!is_frozen(Duration::from_millis(9_900), 0.0));
        assert!(is_frozen(Duration::from_secs(10), 0.0));
        assert!(!is_frozen(Duration::from_secs(14), 5.0));
        assert!(is_frozen(Duration::from_secs(15), 5.0));
    }

    #[test]
    fn time_in_which_the_service_itself_was_stopped_is_no_silence() {
        let (mut watched, pace) = (Watched::default(), Duration::from_secs(1));
        let at = |millis| Duration::from_millis(millis);
        assert_eq!(watched.look(at(1_000), at(900), pace), at(100));
        assert_eq!(watched.look(at(1_200), at(900), pace), at(300));
        // It sleeps for an hour; its worker could not be heard meanwhile.
        assert_eq!(watched.look(at(3_600_000), at(900), pace), at(1_300));
        assert_eq!(
            watched.look(at(3_600_200), at(3_600_100), pace),
            at(100),
            "it was heard"
        );
        let mut silent = Duration::ZERO;
        for look in 0..1_000 {
            silent = watched.look(at(3_600_200 + 100 * look), at(3_600_100), pace);
        }
        assert!(silent > Duration::from_secs(99), "{silent:?}");
    }
}
