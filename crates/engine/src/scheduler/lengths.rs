//! How long answers have been, and so how much longer one is likely to become.

use std::collections::VecDeque;

/// Answers that are remembered.
const RECENT: usize = 256;

/// The lengths of the last answers, in tokens.
#[derive(Default)]
pub(super) struct Lengths {
    recent: VecDeque<u32>,
    /// The same from the shortest to the longest, each with the sum of those from it on.
    sorted: Vec<(u32, u64)>,
}

impl Lengths {
    /// Takes note of an answer that has come to its end.
    pub fn learn(&mut self, tokens: usize) {
        if self.recent.len() == RECENT {
            self.recent.pop_front();
        }
        self.recent.push_back(tokens as u32);
        self.sorted.clear();
        self.sorted.extend(self.recent.iter().map(|length| (*length, 0)));
        self.sorted.sort_unstable();
        let mut sum = 0;
        for (length, rest) in self.sorted.iter_mut().rev() {
            sum += u64::from(*length);
            *rest = sum;
        }
    }

    /// Returns how many tokens an answer of so many has still to come: the mean over those that were longer; none where there were none.
    pub fn still_to_come(&self, tokens: usize) -> usize {
        let longer = self.sorted.partition_point(|(length, _)| *length as usize <= tokens);
        let Some((_, sum)) = self.sorted.get(longer) else {
            return 0;
        };
        let count = (self.sorted.len() - longer) as u64;
        (sum / count) as usize - tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_expected_to_become_as_long_as_the_longer_ones_were() {
        let mut lengths = Lengths::default();
        assert_eq!(lengths.still_to_come(5), 0);
        [10, 20, 60].into_iter().for_each(|length| lengths.learn(length));
        assert_eq!(lengths.still_to_come(0), 30);
        assert_eq!(lengths.still_to_come(10), 30);
        assert_eq!(lengths.still_to_come(59), 1);
        assert_eq!(lengths.still_to_come(60), 0);
        // Old ones are forgotten.
        (0..RECENT).for_each(|_| lengths.learn(5));
        assert_eq!((lengths.still_to_come(0), lengths.still_to_come(5)), (5, 0));
    }
}
