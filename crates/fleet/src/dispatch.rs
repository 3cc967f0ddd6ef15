//! The queue before replicas: the next request, its replica, and the requests that wait.

use std::collections::BTreeMap;
use std::sync::Arc;

/// A unit of priority counts as arriving so many microseconds earlier.
const PRIORITY: i64 = 1_000_000;

/// How loaded a replica is, in sequences.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReplicaLoad {
    /// Those that it was given, or is about to be, and that have not ended.
    pub given: usize,
    /// Most that it works on at once.
    pub width: usize,
    /// Whether somebody has it alone.
    pub is_taken: bool,
}

impl ReplicaLoad {
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

/// Returns the replica that takes the next request: the least loaded one with room. An `exclusive` request gets an empty replica.
pub fn choose(loads: &[ReplicaLoad], exclusive: bool) -> Option<usize> {
    let takes = |load: &ReplicaLoad| load.room() > 0 && (!exclusive || load.given == 0);
    let able = loads.iter().enumerate().filter(|(_, load)| takes(load));
    // The less full replica is the less loaded one, at any width.
    let fuller = |a: &ReplicaLoad, b: &ReplicaLoad| (a.given * b.width.max(1)).cmp(&(b.given * a.width.max(1)));
    able.min_by(|(_, a), (_, b)| fuller(a, b)).map(|(place, _)| place)
}

/// A caller's key, as a line sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyShare {
    /// The key's id; empty for callers without a key.
    pub id: Arc<str>,
    /// How many times as many sequences as a key of weight 1 it gets while both have requests waiting.
    pub weight: u32,
}

impl KeyShare {
    /// Returns the share of a key of weight 1.
    pub fn plain(id: &str) -> KeyShare {
        KeyShare {
            id: id.into(),
            weight: 1,
        }
    }
}

/// A sequence of a key of weight 1 counts as so much.
const COST: u64 = 1_000_000;

/// Where something stands in a line.(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct QueuePosition {
    key: Arc<str>,
    spot: Spot,
}

/// Where something stands among what its key has in a line: lower ones go first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Spot {
    rank: i64,
    number: u64,
}

/// A line before some replicas. Keys go in turns, so that one with many requests does not hold up the others: a key gets sequences in
/// proportion to its weight. Requests of one key go in the order of arrival.
#[derive(Debug)]
pub struct FairQueue<T> {
    keys: BTreeMap<Arc<str>, KeyQueue<T>>,
    depth: usize,
    last: u64,
    /// The cost at which the key stood that was served last.
    served: u64,
}

/// The requests of one key in a line.
#[derive(Debug)]
struct KeyQueue<T> {
    waiting: BTreeMap<Spot, (usize, T)>,
    depth: usize,
    /// The cost of its sequences so far, divided by its weight and counted from the queue's own when it came: start-time fair queueing
    /// (Goyal, Vin and Cheng, 1996).
    served: u64,
    weight: u32,
}

impl<T> Default for FairQueue<T> {
    fn default() -> FairQueue<T> {
        FairQueue {
            keys: BTreeMap::new(),
            depth: 0,
            last: 0,
            served: 0,
        }
    }
}

/// Of all places in a line, one in so many is for keys that have few.
const RESERVED_SHARE: usize = 8;

impl<T> FairQueue<T> {
    /// Adds a key's request of so many sequences; `arrived` is in microseconds of one clock for all requests.
    pub fn enter(&mut self, key: &KeyShare, sequences: usize, priority: i8, arrived: u64, what: T) -> QueuePosition {
        self.last += 1;
        let spot = Spot {
            rank: (arrived as i64).saturating_sub(i64::from(priority) * PRIORITY),
            number: self.last,
        };
        let served = self.served;
        let of_key = self.keys.entry(key.id.clone()).or_insert_with(|| KeyQueue {
            waiting: BTreeMap::new(),
            depth: 0,
            served,
            weight: 1,
        });
        of_key.weight = key.weight.max(1);
        of_key.waiting.insert(spot, (sequences, what));
        of_key.depth += sequences;
        self.depth += sequences;
        QueuePosition {
            key: key.id.clone(),
            spot,
        }
    }

    /// Returns what goes first, without taking it out.
    pub fn first(&self) -> Option<&T> {
        let key = self.next_key()?;
        self.keys[&key].waiting.first_key_value().map(|(_, (_, what))| what)
    }

    /// Takes out what goes first, with its sequences.
    pub fn take_first(&mut self) -> Option<(usize, T)> {
        let key = self.next_key()?;
        let of_key = self.keys.get_mut(&key)?;
        self.served = of_key.served;
        let (_, (sequences, what)) = of_key.waiting.pop_first()?;
        of_key.served += sequences as u64 * COST / u64::from(of_key.weight);
        self.removed(&key, sequences);
        Some((sequences, what))
    }

    /// Takes out what stands in a place, unless it has gone.
    pub fn leave(&mut self, place: &QueuePosition) -> Option<T> {
        let (sequences, what) = self.keys.get_mut(&place.key)?.waiting.remove(&place.spot)?;
        self.removed(&place.key, sequences);
        Some(what)
    }

    /// Returns the key that was served least; of those that were served alike, the one that has waited longest.
    fn next_key(&self) -> Option<Arc<str>> {
        let turn = |(key, of_key): (&Arc<str>, &KeyQueue<T>)| {
            let (first, _) = of_key.waiting.first_key_value()?;
            Some((of_key.served, *first, key.clone()))
        };
        self.keys.iter().filter_map(turn).min().map(|(.., key)| key)
    }

    fn removed(&mut self, key: &Arc<str>, sequences: usize) {
        self.depth -= sequences;
        if let Some(of_key) = self.keys.get_mut(key) {
            of_key.depth -= sequences;
            // A key that comes back begins where the queue stands then, so nothing is saved up by waiting.
            if of_key.waiting.is_empty() && of_key.served <= self.served {
                self.keys.remove(key);
            }
        }
        if self.depth == 0 {
            self.keys.clear();
        }
    }

    /// Returns how many sequences wait.
    pub fn depth(&self) -> usize {
        self.depth
    }

    /// Returns how many sequences wait, here or ahead at replicas.
    pub fn waiting(&self, loads: &[ReplicaLoad]) -> usize {
        let ahead = loads.iter().map(|load| load.given.saturating_sub(load.width));
        self.depth + ahead.sum::<usize>()
    }

    /// Returns whether there is room for more sequences of a key: at most `limit` of all keys wait here or ahead at replicas, without
    /// those that have lanes. The last eighth of the places is for keys that have no more than that, so that no key fills the queue alone;
    /// callers without a key are not told apart and have all places.
    pub fn takes(&self, key: &str, sequences: usize, limit: usize, loads: &[ReplicaLoad]) -> bool {
        let given: usize = loads.iter().map(|load| load.given).sum();
        let lanes: usize = loads.iter().map(|load| load.width).sum();
        let reserved = if key.is_empty() { 0 } else { limit / RESERVED_SHARE };
        let own = self.keys.get(key).map_or(0, |of_key| of_key.depth);
        let limit = if own + sequences > reserved {
            limit - reserved
        } else {
            limit
        };
        self.depth + sequences + given <= limit.saturating_add(lanes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn load(given: usize, width: usize) -> ReplicaLoad {
        ReplicaLoad {
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
        let taken = ReplicaLoad {
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
        let mut queue = FairQueue::default();
        assert!(queue.takes("", 5, 1, &[load(0, 4)]));
        assert!(!queue.takes("", 6, 1, &[load(0, 4)]));
        assert!(!queue.takes("", 1, 1, &[load(5, 4)]), "one waits there");
        queue.enter(&KeyShare::plain(""), 1, 0, 0, "a");
        assert!(!queue.takes("", 1, 1, &[load(4, 4)]), "one waits here");
        assert!(queue.takes("", 1, 2, &[load(4, 4)]));
        assert!(!queue.takes("", 1, 0, &[]));
    }

    #[test]
    fn a_key_that_comes_later_waits_for_one_request_of_each_other_key_and_finds_a_place() {
        let (mut queue, many, one) = (FairQueue::default(), KeyShare::plain("many"), KeyShare::plain("one"));
        let mut came = 0;
        while queue.takes(&many.id, 1, 400, &[load(16, 16)]) {
            queue.enter(&many, 1, 0, came, "many");
            came += 1;
        }
        assert_eq!(came, 350, "an eighth is kept for others");
        assert_eq!(queue.take_first(), Some((1, "many")));
        assert!(queue.takes(&one.id, 1, 400, &[load(16, 16)]));
        queue.enter(&one, 1, 0, came, "one");
        queue.enter(&one, 1, 0, came, "one");
        let next: Vec<&str> = (0..5).map(|_| queue.take_first().unwrap().1).collect();
        assert_eq!(next.iter().filter(|key| **key == "one").count(), 2, "{next:?}");
        assert!(next[..2].contains(&"one"), "{next:?}");
    }

    #[test]
    fn a_key_with_large_requests_has_fewer_turns_and_none_saves_up_turns() {
        let (mut queue, large, small) = (FairQueue::default(), KeyShare::plain("large"), KeyShare::plain("small"));
        for arrived in 0..30 {
            queue.enter(&large, 4, 0, arrived, "large");
        }
        // It was alone for a while.
        for _ in 0..10 {
            let _ = queue.take_first();
        }
        for arrived in 100..140 {
            queue.enter(&small, 1, 0, arrived, "small");
        }
        let next: Vec<&str> = (0..25).map(|_| queue.take_first().unwrap().1).collect();
        let turns = next.iter().filter(|key| **key == "large").count();
        assert!((4..=6).contains(&turns), "{next:?}");
    }

    #[test]
    fn keys_get_sequences_in_proportion_to_their_weights() {
        let (mut queue, mut turns) = (FairQueue::default(), BTreeMap::new());
        for (id, weight) in [("one", 1), ("two", 2), ("five", 5)] {
            let key = KeyShare {
                weight,
                ..KeyShare::plain(id)
            };
            for arrived in 0..200 {
                queue.enter(&key, 1, 0, arrived, id);
            }
        }
        for _ in 0..160 {
            *turns.entry(queue.take_first().unwrap().1).or_insert(0u32) += 1;
        }
        for (id, wanted) in [("one", 20), ("two", 40), ("five", 100)] {
            assert!(turns[id].abs_diff(wanted) <= 1, "{turns:?}");
        }
    }

    proptest! {
        /// The queue of one key stays in order of arrival, where a unit of priority counts as a second, and knows its length.
        #[test]
        fn a_line_is_in_order_and_counts_itself(
            acts in proptest::collection::vec((0u64..20_000_000, -3i8..4, 1usize..4, 0u8..4), 1..60)
        ) {
            let mut queue = FairQueue::default();
            let mut there: Vec<(QueuePosition, i64, usize)> = Vec::new();
            for (number, (arrived, priority, sequences, act)) in acts.into_iter().enumerate() {
                match act {
                    0 if !there.is_empty() => {
                        let (place, ..) = there.remove(number % there.len());
                        prop_assert!(queue.leave(&place).is_some());
                        prop_assert!(queue.leave(&place).is_none());
                    }
                    1 => {
                        let best = there.iter().enumerate().min_by_key(|(order, (_, rank, _))| (*rank, *order)).map(|(at, _)| at);
                        let expected = best.map(|at| there.remove(at));
                        let first = queue.take_first();
                        prop_assert_eq!(first, expected.map(|(_, rank, sequences)| (sequences, rank)));
                    }
                    _ => {
                        let rank = arrived as i64 - i64::from(priority) * PRIORITY;
                        there.push((queue.enter(&KeyShare::plain(""), sequences, priority, arrived, rank), rank, sequences));
                    }
                }
                prop_assert_eq!(queue.depth(), there.iter().map(|(.., sequences)| sequences).sum::<usize>());
            }
        }
    }
}
