//! Who goes to which replica next, and who waits.

use std::collections::BTreeMap;

/// A unit of priority counts as arriving so many microseconds earlier.
const PRIORITY: i64 = 1_000_000;

/// How loaded a replica is, in sequences.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Load {
    /// Those that it was given, or is about to be, and that have not ended.
    pub given: usize,
    /// Most that it works on at once.
    pub width: usize,
    /// Whether somebody has it alone.
    pub is_taken: bool,
}

impl Load {
    /// Returns how many more it may be given: as many as it has lanes free, and some ahead, so that no lane waits for a round trip.
    pub fn room(self) -> usize {
        match self.is_taken {
            true => 0,
            false => (self.width + look_ahead(self.width)).saturating_sub(self.given),
        }
    }
}

/// Returns how many sequences a replica of a width is given ahead.
pub fn look_ahead(width: usize) -> usize {
    width.div_ceil(8)
}

/// Returns the replica that takes the next request: the least loaded one with room. One that is to run `alone` goes to none that has any.
pub fn choose(loads: &[Load], alone: bool) -> Option<usize> {
    let takes = |load: &Load| load.room() > 0 && (!alone || load.given == 0);
    let able = loads.iter().enumerate().filter(|(_, load)| takes(load));
    // Whoever is less full is less loaded, whatever its width.
    let fuller = |a: &Load, b: &Load| (a.given * b.width.max(1)).cmp(&(b.given * a.width.max(1)));
    able.min_by(|(_, a), (_, b)| fuller(a, b)).map(|(place, _)| place)
}

/// Where something stands in a line: those with lower places go first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    rank: i64,
    number: u64,
}

/// A line before some replicas.
#[derive(Debug)]
pub struct Line<T> {
    waiting: BTreeMap<Place, (usize, T)>,
    depth: usize,
    last: u64,
}

impl<T> Default for Line<T> {
    fn default() -> Line<T> {
        Line {
            waiting: BTreeMap::new(),
            depth: 0,
            last: 0,
        }
    }
}

impl<T> Line<T> {
    /// Adds something of so many sequences that arrived at a time, in microseconds of whatever clock, with a priority.
    pub fn enter(&mut self, sequences: usize, priority: i8, arrived: u64, what: T) -> Place {
        self.last += 1;
        let place = Place {
            rank: (arrived as i64).saturating_sub(i64::from(priority) * PRIORITY),
            number: self.last,
        };
        self.waiting.insert(place, (sequences, what));
        self.depth += sequences;
        place
    }

    /// Returns what goes first, without taking it out.
    pub fn first(&self) -> Option<&T> {
        self.waiting.first_key_value().map(|(_, (_, what))| what)
    }

    /// Takes out what goes first, with its sequences.
    pub fn take_first(&mut self) -> Option<(usize, T)> {
        let (_, (sequences, what)) = self.waiting.pop_first()?;
        self.depth -= sequences;
        Some((sequences, what))
    }

    /// Takes out what stands in a place, unless it has gone.
    pub fn leave(&mut self, place: Place) -> Option<T> {
        let (sequences, what) = self.waiting.remove(&place)?;
        self.depth -= sequences;
        Some(what)
    }

    /// Returns how many sequences wait.
    pub fn depth(&self) -> usize {
        self.depth
    }

    /// Returns how many sequences wait, here or ahead at replicas.
    pub fn waiting(&self, loads: &[Load]) -> usize {
        let ahead = loads.iter().map(|load| load.given.saturating_sub(load.width));
        self.depth + ahead.sum::<usize>()
    }

    /// Returns whether there is room for more: at most `limit` sequences wait, here or ahead at replicas, besides those that have lanes.
    pub fn takes(&self, sequences: usize, limit: usize, loads: &[Load]) -> bool {
        let given: usize = loads.iter().map(|load| load.given).sum();
        let lanes: usize = loads.iter().map(|load| load.width).sum();
        self.depth + sequences + given <= limit.saturating_add(lanes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn load(given: usize, width: usize) -> Load {
        Load {
            given,
            width,
            is_taken: false,
        }
    }

    #[test]
    fn requests_go_to_whoever_is_least_full_and_has_room() {
        assert_eq!(choose(&[load(3, 4), load(5, 16), load(2, 4)], false), Some(1));
        assert_eq!(
            choose(&[load(5, 4), load(18, 16)], false),
            None,
            "lanes and what is given ahead are full"
        );
        assert_eq!(choose(&[load(4, 4)], false), Some(0), "one is given ahead");
        let taken = Load {
            is_taken: true,
            ..load(1, 4)
        };
        assert_eq!(choose(&[taken, load(3, 4)], false), Some(1));
        assert_eq!(choose(&[load(1, 4), load(0, 4)], true), Some(1));
        assert_eq!(choose(&[load(1, 4)], true), None);
        assert_eq!(choose(&[], false), None);
    }

    #[test]
    fn a_line_takes_as_many_as_may_wait_besides_those_that_need_not() {
        let mut line = Line::default();
        assert!(line.takes(5, 1, &[load(0, 4)]));
        assert!(!line.takes(6, 1, &[load(0, 4)]));
        assert!(!line.takes(1, 1, &[load(5, 4)]), "one waits there");
        line.enter(1, 0, 0, "a");
        assert!(!line.takes(1, 1, &[load(4, 4)]), "one waits here");
        assert!(line.takes(1, 2, &[load(4, 4)]));
        assert!(!line.takes(1, 0, &[]));
    }

    proptest! {
        /// Whatever comes and goes, the line is in order of arrival, earlier by a second for each unit of priority, and counts itself.
        #[test]
        fn a_line_is_in_order_and_counts_itself(
            acts in proptest::collection::vec((0u64..20_000_000, -3i8..4, 1usize..4, 0u8..4), 1..60)
        ) {
            let mut line = Line::default();
            let mut there: Vec<(Place, i64, usize)> = Vec::new();
            for (number, (arrived, priority, sequences, act)) in acts.into_iter().enumerate() {
                match act {
                    0 if !there.is_empty() => {
                        let (place, ..) = there.remove(number % there.len());
                        prop_assert!(line.leave(place).is_some());
                        prop_assert!(line.leave(place).is_none());
                    }
                    1 => {
                        let best = there.iter().enumerate().min_by_key(|(order, (_, rank, _))| (*rank, *order)).map(|(at, _)| at);
                        let expected = best.map(|at| there.remove(at));
                        let first = line.take_first();
                        prop_assert_eq!(first, expected.map(|(_, rank, sequences)| (sequences, rank)));
                    }
                    _ => {
                        let rank = arrived as i64 - i64::from(priority) * PRIORITY;
                        there.push((line.enter(sequences, priority, arrived, rank), rank, sequences));
                    }
                }
                prop_assert_eq!(line.depth(), there.iter().map(|(.., sequences)| sequences).sum::<usize>());
            }
        }
    }
}
