//! What the shards of a split model tell one another: their parts of sums and of logits, through memory they share.

use std::ops::Range;
use std::panic::resume_unwind;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, RwLock};
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_weights::Shard;

/// One shard's end of the memory that all of them share.
///
/// All shards make the same calls in the same order. A sum adds the shards' parts in their order, so that it has the same bits on
/// each of them.
pub(super) struct Exchange {
    shard: Shard,
    shared: Arc<Shared>,
    /// How many exchanges there were.
    turn: usize,
}

struct Shared {
    /// What each shard has to tell, for this exchange and for the one before, which a late one may still be reading.
    slots: [Vec<RwLock<Vec<f32>>>; 2],
    /// How many have come to the place where all wait for all, ever.
    arrived: AtomicUsize,
    /// Whether a shard has failed, so that waiting for it would never end.
    broken: AtomicBool,
    /// Shards that sleep until the last one has come.
    sleeping: Mutex<usize>,
    change: Condvar,
    spinning: Spinning,
}

/// Why a shard gives up: another one has failed.
pub(super) struct OtherFailed;

impl Exchange {
    /// Returns the ends for all shards of a split.
    pub fn all(split: usize, spinning: &Spinning) -> Vec<Exchange> {
        let slots = || (0..split).map(|_| RwLock::default()).collect();
        let shared = Arc::new(Shared {
            slots: [slots(), slots()],
            arrived: AtomicUsize::new(0),
            broken: AtomicBool::new(false),
            sleeping: Mutex::new(0),
            change: Condvar::new(),
            spinning: spinning.clone(),
        });
        let end = |shard| Exchange {
            shard,
            shared: shared.clone(),
            turn: 0,
        };
        Shard::all(split).map(end).collect()
    }

    /// Returns the end of a model that is not split.
    pub fn unsplit() -> Exchange {
        Exchange::all(1, &Spinning::default()).remove(0)
    }

    /// Returns which shard's end this is.
    pub fn shard(&self) -> Shard {
        self.shard
    }

    /// Replaces each shard's values by the sums over all shards' (an all-reduce).
    ///
    /// # Panics
    /// With [`OtherFailed`] when another shard has failed.
    pub fn sum(&mut self, values: &mut [f32]) {
        if self.shard.of == 1 {
            return;
        }
        let slots = self.publish(values);
        values.fill(0.0);
        for part in &self.shared.slots[slots] {
            let part = part.read().unwrap_or_else(PoisonError::into_inner);
            values.iter_mut().zip(part.iter()).for_each(|(sum, part)| *sum += part);
        }
    }

    /// Lays all shards' rows side by side in the rows of the first shard's `whole` (a gather); `range` tells which part of a row is
    /// whose.
    ///
    /// # Panics
    /// As [`Exchange::sum`].
    pub fn gather(&mut self, rows: &[f32], whole: &mut [f32], width: usize, range: impl Fn(Shard) -> Range<usize>) {
        let slots = self.publish(rows);
        if self.shard.index > 0 {
            return;
        }
        for (shard, part) in Shard::all(self.shard.of).zip(&self.shared.slots[slots]) {
            let (part, range) = (part.read().unwrap_or_else(PoisonError::into_inner), range(shard));
            for (whole, part) in whole.chunks_exact_mut(width).zip(part.chunks_exact(range.len())) {
                whole[range.clone()].copy_from_slice(part);
            }
        }
    }

    /// Lets the others know that this shard has failed.
    pub fn fail(&self) {
        self.shared.broken.store(true, Ordering::SeqCst);
        self.shared.wake();
    }

    /// Publishes values and waits for the other shards' values; returns the slot, which stays valid for one more exchange.
    fn publish(&mut self, values: &[f32]) -> usize {
        let slots = self.turn % 2;
        {
            let slot = &self.shared.slots[slots][self.shard.index];
            let mut slot = slot.write().unwrap_or_else(PoisonError::into_inner);
            slot.clear();
            slot.extend_from_slice(values);
        }
        self.turn += 1;
        self.wait_for_all();
        slots
    }

    fn wait_for_all(&self) {
        let (shared, wanted) = (&*self.shared, self.turn * self.shard.of);
        if shared.arrived.fetch_add(1, Ordering::SeqCst) + 1 == wanted {
            shared.wake();
            return;
        }
        let (is_complete, is_broken) = (
            || shared.arrived.load(Ordering::SeqCst) >= wanted,
            || shared.broken.load(Ordering::SeqCst),
        );
        if !shared.spinning.look_for(|| is_complete() || is_broken()) {
            let mut sleeping = lock(&shared.sleeping);
            *sleeping += 1;
            while !is_complete() && !is_broken() {
                sleeping = shared.change.wait(sleeping).unwrap_or_else(PoisonError::into_inner);
            }
            *sleeping -= 1;
        }
        if !is_complete() {
            resume_unwind(Box::new(OtherFailed));
        }
    }
}

impl Shared {
    /// Wakes shards that sleep. They look once more under the lock before they do, so none sleeps through it.
    fn wake(&self) {
        if *lock(&self.sleeping) > 0 {
            self.change.notify_all();
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::panic::{AssertUnwindSafe, catch_unwind};

    #[test]
    fn sums_and_rows_are_those_of_all_shards_in_their_order() {
        for split in [1, 2, 5] {
            std::thread::scope(|scope| {
                for mut exchange in Exchange::all(split, &Spinning::default()) {
                    scope.spawn(move || {
                        for round in 0..200u32 {
                            let index = exchange.shard().index as u32;
                            let mut values = vec![(round * 10 + index) as f32; 3 + round as usize % 4];
                            exchange.sum(&mut values);
                            let sum = (0..split as u32).map(|index| (round * 10 + index) as f32).sum::<f32>();
                            assert!(values.iter().all(|value| *value == sum));
                            let mut whole = vec![-1.0; 2 * 7];
                            let mine: Vec<f32> =
                                exchange.shard().range(7).map(|at| (at as u32 + round) as f32).collect();
                            exchange.gather(&mine.repeat(2), &mut whole, 7, |shard| shard.range(7));
                            if index == 0 {
                                let row: Vec<f32> = (0..7).map(|at| (at + round) as f32).collect();
                                assert_eq!(whole, row.repeat(2));
                            }
                        }
                    });
                }
            });
        }
    }

    #[test]
    fn nobody_waits_for_a_shard_that_has_failed() {
        let mut ends = Exchange::all(2, &Spinning::default());
        let failing = ends.pop().unwrap();
        let mut waiting = ends.pop().unwrap();
        std::thread::scope(|scope| {
            let waiter = scope.spawn(move || catch_unwind(AssertUnwindSafe(|| waiting.sum(&mut [1.0]))));
            failing.fail();
            assert!(waiter.join().unwrap().unwrap_err().is::<OtherFailed>());
        });
    }
}
