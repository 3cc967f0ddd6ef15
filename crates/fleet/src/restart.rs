//! When a replica whose worker has died begins its next life.

use std::time::Duration;

/// Early deaths in a row after which the next life begins at once.
const AT_ONCE: u32 = 2;
/// Early deaths in a row from which on nobody waits any more.
const HOPELESS: u32 = 6;
/// The first pause.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
/// The longest.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// How the last lives of a replica ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct EarlyExits {
    /// Lives in a row that ended before a token was produced.
    early: u32,
}

impl EarlyExits {
    /// Notes an exit and returns the pause before the next start. A worker that has produced a token has shown that it works; from the
    /// third early exit in a row on the pauses double, from a second to a minute.
    pub fn note(&mut self, produced: bool) -> Duration {
        self.early = if produced { 0 } else { self.early.saturating_add(1) };
        match self.early.checked_sub(AT_ONCE + 1) {
            None => Duration::ZERO,
            Some(doublings) => FIRST_PAUSE.saturating_mul(1 << doublings.min(16)).min(LONGEST_PAUSE),
        }
    }

    /// Returns whether lives end as soon as they begin.
    pub fn is_loop(self) -> bool {
        self.early > AT_ONCE
    }

    /// Returns whether nothing speaks for another end of the next life: then those who were accepted before are given up, too.
    pub fn is_hopeless(self) -> bool {
        self.early >= HOPELESS
    }

    /// Returns how many lives in a row ended early.
    pub fn early(self) -> u32 {
        self.early
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_from_the_third_early_death_on_and_end_with_a_token() {
        let mut early_exits = EarlyExits::default();
        let mut pauses = |produced: &[bool]| -> Vec<u64> {
            let pause = |produced: &bool| early_exits.note(*produced).as_secs();
            produced.iter().map(pause).collect()
        };
        assert_eq!(pauses(&[false; 10]), [0, 0, 1, 2, 4, 8, 16, 32, 60, 60]);
        assert_eq!(pauses(&[true, true, false, false, false]), [0, 0, 0, 0, 1]);
    }

    #[test]
    fn a_very_long_row_of_deaths_is_counted_and_no_more() {
        let mut early_exits = EarlyExits { early: u32::MAX };
        assert_eq!(early_exits.note(false), LONGEST_PAUSE);
        assert!(early_exits.is_loop() && early_exits.is_hopeless());
        assert_eq!(
            (early_exits.note(true), early_exits.is_loop(), early_exits.is_hopeless()),
            (Duration::ZERO, false, false)
        );
    }
}
