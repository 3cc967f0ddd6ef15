//! Who waits, in which order, for how long at most, and when somebody who found no place may come back: a pure type.
//!
//! Entries are served in the order of arrival, where each unit of priority counts as an earlier arrival: so the oldest always
//! proceeds, and nobody starves.

use crate::micros::Micros;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound;
use std::time::Duration;

/// How much earlier one unit of priority makes an arrival count, in microseconds.
const PRIORITY_STEP: i64 = 1_000_000;

/// A place in the order of service: virtual arrival, then the count of arrivals.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Rank(i64, u64);

/// Nobody else may wait.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct QueueFull {
    /// How many do.
    pub depth: usize,
}

/// See the module.
#[derive(Debug)]
pub struct Queue<K> {
    depth: usize,
    waiting: BTreeMap<Rank, (K, Option<Micros>)>,
    deadlines: BTreeSet<(Micros, Rank)>,
    arrivals: u64,
}

impl<K: Copy> Queue<K> {
    /// Returns a queue in which so many may wait.
    pub fn new(depth: usize) -> Queue<K> {
        Queue {
            depth,
            waiting: BTreeMap::new(),
            deadlines: BTreeSet::new(),
            arrivals: 0,
        }
    }

    /// Returns how many wait.
    pub fn len(&self) -> usize {
        self.waiting.len()
    }

    /// Returns whether nobody waits.
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// Takes somebody in who has just arrived, until a deadline if there is one; returns its place in the order.
    ///
    /// # Errors
    /// When as many wait as may.
    pub fn arrive(&mut self, key: K, priority: i8, deadline: Option<Micros>, now: Micros) -> Result<Rank, QueueFull> {
        if self.waiting.len() >= self.depth {
            return Err(QueueFull {
                depth: self.waiting.len(),
            });
        }
        self.arrivals += 1;
        let rank = Rank(now as i64 - i64::from(priority) * PRIORITY_STEP, self.arrivals);
        self.put_back(rank, key, deadline);
        Ok(rank)
    }

    /// Takes somebody in again who had left, at its place in the order; there is always room for that.
    pub fn put_back(&mut self, rank: Rank, key: K, deadline: Option<Micros>) {
        self.waiting.insert(rank, (key, deadline));
        self.deadlines.extend(deadline.map(|deadline| (deadline, rank)));
    }

    /// Takes somebody out; nothing happens where it does not wait.
    pub fn remove(&mut self, rank: Rank) {
        if let Some((_, Some(deadline))) = self.waiting.remove(&rank) {
            self.deadlines.remove(&(deadline, rank));
        }
    }

    /// Returns who is served next after one, or first of all.
    pub fn next(&self, after: Option<Rank>) -> Option<(Rank, K)> {
        let after = after.map_or(Bound::Unbounded, Bound::Excluded);
        let (rank, (key, _)) = self.waiting.range((after, Bound::Unbounded)).next()?;
        Some((*rank, *key))
    }

    /// Returns all, in the order of service.
    pub fn iter(&self) -> impl Iterator<Item = K> + '_ {
        self.waiting.values().map(|(key, _)| *key)
    }

    /// Returns those whose deadline has come.
    pub fn overdue(&self, now: Micros) -> impl Iterator<Item = K> + '_ {
        let due = self.deadlines.iter().take_while(move |(deadline, _)| *deadline <= now);
        due.map(|(_, rank)| self.waiting[rank].0)
    }

    /// Returns the first deadline.
    pub fn next_deadline(&self) -> Option<Micros> {
        self.deadlines.first().map(|(deadline, _)| *deadline)
    }
}

/// Returns when somebody may come back who found a full queue: `width` are served at a time, each for `residence` seconds.
pub fn retry_after(depth: usize, width: usize, residence: f64) -> Duration {
    let rounds = (depth as f64 + 1.0) / width.max(1) as f64;
    let seconds = (rounds * residence).clamp(1.0, 600.0).ceil();
    Duration::from_secs_f64(seconds)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn priorities_are_earlier_arrivals_and_nobody_starves() {
        let mut queue = Queue::new(3);
        queue.arrive("first", 0, None, 0).unwrap();
        let second = queue.arrive("preferred", 2, None, 1_500_000).unwrap();
        queue.arrive("late and preferred", 2, None, 2_500_000).unwrap();
        assert_eq!(queue.arrive("no room", 9, None, 0), Err(QueueFull { depth: 3 }));
        assert_eq!(
            queue.iter().collect::<Vec<_>>(),
            ["preferred", "first", "late and preferred"]
        );
        // Who had a place comes back to it, full or not.
        queue.remove(second);
        queue.arrive("another", 0, None, 9).unwrap();
        queue.put_back(second, "preferred", None);
        assert_eq!((queue.len(), queue.next(None).unwrap().1), (4, "preferred"));
    }

    #[test]
    fn who_comes_back_waits_for_those_before() {
        assert_eq!(retry_after(7, 4, 3.0), Duration::from_secs(6));
        assert_eq!(retry_after(0, 64, 0.01), Duration::from_secs(1));
        assert_eq!(retry_after(1 << 20, 1, 60.0), Duration::from_secs(600));
    }

    proptest! {
        #[test]
        fn deadlines_are_those_of_the_waiting(acts in proptest::collection::vec((0u8..4, 0u64..50), 0..80)) {
            let (mut queue, mut model) = (Queue::new(20), BTreeMap::new());
            for (number, (act, moment)) in acts.into_iter().enumerate() {
                if act > 0 {
                    let deadline = (act > 1).then_some(moment);
                    if let Ok(rank) = queue.arrive(number, 0, deadline, moment) {
                        model.insert(rank, (number, deadline));
                    }
                } else if let Some((rank, _)) = queue.next(None) {
                    queue.remove(rank);
                    model.remove(&rank);
                }
                prop_assert_eq!(queue.iter().collect::<Vec<_>>(), model.values().map(|(key, _)| *key).collect::<Vec<_>>());
                let mut overdue: Vec<usize> = queue.overdue(moment).collect();
                overdue.sort_unstable();
                let due = model.values().filter(|(_, deadline)| deadline.is_some_and(|deadline| deadline <= moment));
                let mut due: Vec<usize> = due.map(|(key, _)| *key).collect();
                due.sort_unstable();
                prop_assert_eq!(overdue, due);
                prop_assert_eq!(queue.next_deadline(), model.values().filter_map(|(_, deadline)| *deadline).min());
            }
        }
    }
}
