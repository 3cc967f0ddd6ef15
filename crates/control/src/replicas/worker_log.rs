//! What the workers of an endpoint have said last.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};
use vastrelay_store::milliseconds_since_1970;
use vastrelay_wire::manage::LogLine;

/// Lines that are kept of an endpoint; the oldest are dropped first.
const MOST_KEPT: usize = 1_000;

/// The last lines, with the lives that they are from.
#[derive(Default)]
pub struct WorkerLog(Mutex<VecDeque<LogLine>>);

impl WorkerLog {
    /// Adds lines of a worker's output.
    pub fn add(&self, replica: u32, incarnation: u64, lines: &[String]) {
        let at_ms = milliseconds_since_1970();
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        for line in lines {
            if kept.len() == MOST_KEPT {
                kept.pop_front();
            }
            kept.push_back(LogLine {
                at_ms,
                replica,
                incarnation,
                line: line.clone(),
            });
        }
    }

    /// Returns the last lines, at most so many, oldest first.
    pub fn last(&self, most: usize) -> Vec<LogLine> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().skip(kept.len().saturating_sub(most)).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_lines_are_kept_in_their_order() {
        let log = WorkerLog::default();
        for number in 0..MOST_KEPT + 5 {
            log.add(1, 7, &[number.to_string()]);
        }
        let last: Vec<String> = log.last(2).into_iter().map(|line| line.line).collect();
        assert_eq!(last, ["1003", "1004"]);
        assert_eq!(log.last(usize::MAX).len(), MOST_KEPT);
    }
}
