//! Work that goes through rows once, on all cores.

use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::part_of;

/// Values that are worth a task: less is done before another core has noticed.
const WORTH: usize = 8_192;

/// Returns into how many tasks rows of so many values are best cut.
pub(crate) fn tasks_of(threads: &ThreadPool, rows: usize, width: usize) -> usize {
    rows.min(threads.cores() * 4).min((rows * width).div_ceil(WORTH)).max(1)
}

impl ThreadPool {
    /// Calls `work` with runs of whole rows of `values: [rows, width]`, each with the number of its first row.
    ///
    /// # Panics
    /// When `values` is not whole rows, or `work` panics.
    pub fn rows(&self, values: &mut [f32], width: usize, work: &(dyn Fn(usize, &mut [f32]) + Sync)) {
        assert!(values.len().is_multiple_of(width), "rows of {width}");
        let rows = values.len() / width;
        let tasks = tasks_of(self, rows, width);
        let values = Shared2d::new(values);
        self.run(tasks, &|task| {
            let (row, rows) = part_of(rows, tasks, task);
            // SAFETY: each row is the work of one task.
            work(row, unsafe { values.part(row * width, rows * width) });
        });
    }

    /// Calls `work` with each of the items.
    ///
    /// # Panics
    /// When `work` panics.
    pub fn each<T: Send>(&self, items: &mut [T], work: &(dyn Fn(&mut T) + Sync)) {
        let count = items.len();
        let items = Shared2d::new(items);
        self.run(count, &|task| {
            // SAFETY: each item is the work of one task.
            work(&mut unsafe { items.part(task, 1) }[0]);
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_and_item_is_worked_on_once() {
        for cores in 1..4 {
            let threads = ThreadPool::new(cores);
            for rows in [0, 1, 7, 300] {
                let mut values = vec![0.0; rows * 100];
                threads.rows(&mut values, 100, &|first, part| {
                    for (row, part) in part.chunks_exact_mut(100).enumerate() {
                        part.iter_mut().for_each(|value| *value += (first + row) as f32 + 1.0);
                    }
                });
                assert!(
                    values
                        .iter()
                        .enumerate()
                        .all(|(at, value)| *value == (at / 100) as f32 + 1.0)
                );
                let mut items: Vec<usize> = (0..rows).collect();
                threads.each(&mut items, &|item| *item += 1);
                assert!(items.iter().enumerate().all(|(at, item)| *item == at + 1));
            }
        }
    }
}
