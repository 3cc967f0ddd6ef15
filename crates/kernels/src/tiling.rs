//! How products are cut into tiles.

use crate::Aligned;
use crate::thread_pool::ThreadPool;
use std::cell::RefCell;
use std::ops::Range;

/// Panels at once when there is one row: more streams of weights, as nothing else hides the latency of a sum.
pub(crate) const PANELS_ONE_ROW: usize = 4;
/// Most panels at once when there are several.
const PANELS: usize = 2;
/// Rows from which a task is a few groups of panels, as it then takes long enough.
const MANY_ROWS: usize = 32;
/// Groups of panels that a task of many rows has at most.
const MOST_GROUPS: usize = 4;

/// What a task needs beside its operands; it stays with the thread.
#[derive(Default)]
pub(crate) struct Space {
    /// Weights widened to 32 bits.
    pub widened: Aligned<f32>,
    /// Weights widened to 8 bits.
    pub bytes: Aligned<u8>,
    /// What was summed up so far, when inputs or tokens come in parts.
    pub sums: Aligned<f32>,
}

thread_local! {
    static SPACE: RefCell<Space> = RefCell::default();
}

/// Calls `work` with the space of this thread.
///
/// # Panics
/// When `work` does so itself.
pub(crate) fn with_space<R>(work: impl FnOnce(&mut Space) -> R) -> R {
    SPACE.with_borrow_mut(work)
}

/// Shares the panels of a product out over the cores: enough tasks to have even parts, few enough not to fight over them.
pub(crate) fn share_panels(
    threads: &ThreadPool,
    panels: usize,
    rows: usize,
    work: &(dyn Fn(Range<usize>, &mut Space) + Sync),
) {
    let width = if rows == 1 { PANELS_ONE_ROW } else { PANELS };
    let groups = panels.div_ceil(width);
    let tasks = match rows {
        // Few panels at a time, so that their sums stay near; many tasks, so that no core waits for the last one.
        MANY_ROWS.. => groups.div_ceil((groups / (threads.cores() * 8)).clamp(1, MOST_GROUPS)),
        _ => groups.min(threads.cores() * 4),
    };
    threads.run(tasks, &|task| {
        let (begin, len) = part_of(groups, tasks, task);
        let panels = begin * width..((begin + len) * width).min(panels);
        with_space(|space| work(panels, space));
    });
}

/// Returns where one of `parts` even parts of `count` begins, and how long it is.
pub(crate) fn part_of(count: usize, parts: usize, index: usize) -> (usize, usize) {
    let begin = count * index / parts;
    (begin, count * (index + 1) / parts - begin)
}

/// Calls a function whose last two type arguments are a tile's rows, eight at most, and its panels: two at most, or
/// four with one row.
macro_rules! by_tile {
    ($rows:expr, $panels:expr, $of:ident::<$($ty:ty),+>($($arg:expr),* $(,)?)) => {
        match ($rows, $panels) {
            (1, 1) => $of::<$($ty),+, 1, 1>($($arg),*),
            (2, 1) => $of::<$($ty),+, 2, 1>($($arg),*),
            (3, 1) => $of::<$($ty),+, 3, 1>($($arg),*),
            (4, 1) => $of::<$($ty),+, 4, 1>($($arg),*),
            (5, 1) => $of::<$($ty),+, 5, 1>($($arg),*),
            (6, 1) => $of::<$($ty),+, 6, 1>($($arg),*),
            (7, 1) => $of::<$($ty),+, 7, 1>($($arg),*),
            (8, 1) => $of::<$($ty),+, 8, 1>($($arg),*),
            (9, 1) => $of::<$($ty),+, 9, 1>($($arg),*),
            (10, 1) => $of::<$($ty),+, 10, 1>($($arg),*),
            (11, 1) => $of::<$($ty),+, 11, 1>($($arg),*),
            (12, 1) => $of::<$($ty),+, 12, 1>($($arg),*),
            (1, 2) => $of::<$($ty),+, 1, 2>($($arg),*),
            (2, 2) => $of::<$($ty),+, 2, 2>($($arg),*),
            (3, 2) => $of::<$($ty),+, 3, 2>($($arg),*),
            (4, 2) => $of::<$($ty),+, 4, 2>($($arg),*),
            (5, 2) => $of::<$($ty),+, 5, 2>($($arg),*),
            (6, 2) => $of::<$($ty),+, 6, 2>($($arg),*),
            (7, 2) => $of::<$($ty),+, 7, 2>($($arg),*),
            (8, 2) => $of::<$($ty),+, 8, 2>($($arg),*),
            (9, 2) => $of::<$($ty),+, 9, 2>($($arg),*),
            (10, 2) => $of::<$($ty),+, 10, 2>($($arg),*),
            (11, 2) => $of::<$($ty),+, 11, 2>($($arg),*),
            (12, 2) => $of::<$($ty),+, 12, 2>($($arg),*),
            (1, 3) => $of::<$($ty),+, 1, 3>($($arg),*),
            (1, 4) => $of::<$($ty),+, 1, 4>($($arg),*),
            (rows, panels) => unreachable!("a tile of {rows} rows by {panels} panels"),
        }
    };
}
pub(crate) use by_tile;
