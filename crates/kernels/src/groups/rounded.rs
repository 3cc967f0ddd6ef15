//! Rows of activations rounded to 8 bits.

use crate::isa::for_each_isa;
use crate::rows::tasks_of;
use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::part_of;
use crate::vector::{QUAD, ROUND, Vector};
use crate::{Aligned, Isa, LANES};
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Rows rounded to whole numbers from −127 to 127, group by group: the largest of a group becomes 127.
#[derive(Default)]
pub struct RoundedRows {
    isa: Option<Isa>,
    pub(super) rows: usize,
    /// How many tiles the rows are cut into.
    pub(super) tiles: usize,
    inputs: usize,
    group: usize,
    pub(super) groups: usize,
    /// Tile by tile, quad by quad, one quad for each row of the tile; what fills up the last group is zero.
    numbers: Aligned<i8>,
    /// Tile by tile, group by group, one for each row.
    facts: Vec<GroupFacts>,
    /// How many parts of each tile's rows are still to arrive.
    missing: Vec<AtomicUsize>,
}

/// What is known of a group of rounded numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct GroupFacts {
    /// What a step of the numbers is worth.
    pub scale: f32,
    /// The sum of the numbers.
    pub sum: i32,
    /// The sum of what they are worth.
    pub whole: f32,
}

impl RoundedRows {
    /// Rounds rows `x: [rows, inputs]`, in groups of so many inputs.
    ///
    /// # Panics
    /// When `x` is not whole rows.
    pub fn round(&mut self, isa: Isa, threads: &ThreadPool, x: &[f32], inputs: usize, group: usize) {
        assert!(x.len().is_multiple_of(inputs), "rows of {inputs}");
        let of_tile = |row: usize, rows: usize| &x[row * inputs..(row + rows) * inputs];
        self.round_tiles(isa, threads, x.len() / inputs, inputs, group, &of_tile);
    }

    /// As [`RoundedRows::round`], with rows that are made only now: `make` is called with some of them and the number of the first,
    /// and they are rounded while they lie in the nearest cache.
    ///
    /// # Panics
    /// As there, or when `make` panics.
    pub fn round_made(
        &mut self,
        isa: Isa,
        threads: &ThreadPool,
        x: &mut [f32],
        inputs: usize,
        group: usize,
        make: &(dyn Fn(usize, &mut [f32]) + Sync),
    ) {
        assert!(x.len().is_multiple_of(inputs), "rows of {inputs}");
        let rows = x.len() / inputs;
        let x = Shared2d::new(x);
        self.round_tiles(isa, threads, rows, inputs, group, &|row, rows| {
            // SAFETY: each row is in one tile, and each tile is asked for once, by one task.
            let tile = unsafe { x.part(row * inputs, rows * inputs) };
            make(row, tile);
            tile
        });
    }

    /// Rounds rows tile by tile; `of_tile` is called once for each, with its first row and how many it has.
    fn round_tiles<'a>(
        &mut self,
        isa: Isa,
        threads: &ThreadPool,
        rows: usize,
        inputs: usize,
        group: usize,
        of_tile: &(dyn Fn(usize, usize) -> &'a [f32] + Sync),
    ) {
        let (tiles, _) = self.begin(isa, rows, inputs, group);
        let tasks = tasks_of(threads, tiles.count, inputs * rows.div_ceil(tiles.count.max(1)));
        threads.run(tasks, &|task| {
            let (first, count) = part_of(tiles.count, tasks, task);
            // SAFETY: each tile is the work of one task.
            (first..first + count).for_each(|tile| unsafe { tiles.round(tile, of_tile) });
        });
    }

    /// Begins to round rows that are completed by the caller's tasks, each in so many parts; see [`Arriving::arrived`].
    pub(crate) fn arriving(
        &mut self,
        isa: Isa,
        rows: usize,
        inputs: usize,
        group: usize,
        parts: usize,
    ) -> Arriving<'_> {
        let (tiles, missing) = self.begin(isa, rows, inputs, group);
        missing.clear();
        missing.extend((0..tiles.count).map(|tile| AtomicUsize::new(tiles.rows_of(tile).1 * parts)));
        Arriving { tiles, missing }
    }

    /// Makes room for rows; returns their tiles, and where arrivals are counted.
    fn begin(&mut self, isa: Isa, rows: usize, inputs: usize, group: usize) -> (Tiles<'_>, &mut Vec<AtomicUsize>) {
        let groups = inputs.div_ceil(group);
        let count = rows.div_ceil(isa.whole_tile().rows);
        self.isa = Some(isa);
        (self.rows, self.tiles) = (rows, count);
        (self.inputs, self.group, self.groups) = (inputs, group, groups);
        self.numbers.resize(rows * groups * group);
        self.facts.resize(rows * groups, GroupFacts::default());
        let tiles = Tiles {
            isa,
            rows,
            count,
            inputs,
            group,
            numbers: Shared2d::new(&mut self.numbers),
            facts: Shared2d::new(&mut self.facts),
        };
        (tiles, &mut self.missing)
    }

    /// Makes sure that the rows were rounded for such a matrix.
    ///
    /// # Panics
    /// When they were rounded to other groups, or for other instructions.
    pub(super) fn check(&self, isa: Isa, inputs: usize, group: usize) {
        assert!(
            (self.isa, self.inputs, self.group) == (Some(isa), inputs, group),
            "rows of {} in groups of {} for {:?}, and a matrix of {inputs} in groups of {group} for {isa:?}",
            self.inputs,
            self.group,
            self.isa
        );
    }

    /// Returns the numbers of a tile's rows.
    #[inline(always)]
    pub(super) fn numbers(&self, row: usize, rows: usize) -> &[i8] {
        let width = self.groups * self.group;
        &self.numbers[row * width..(row + rows) * width]
    }

    /// Returns what is known of the groups of a tile's rows.
    #[inline(always)]
    pub(super) fn facts(&self, row: usize, rows: usize) -> &[GroupFacts] {
        &self.facts[row * self.groups..(row + rows) * self.groups]
    }
}

/// Rows that are rounded tile by tile.
struct Tiles<'a> {
    isa: Isa,
    rows: usize,
    count: usize,
    inputs: usize,
    group: usize,
    numbers: Shared2d<'a, i8>,
    facts: Shared2d<'a, GroupFacts>,
}

impl Tiles<'_> {
    /// Returns the first row of a tile and how many it has.
    fn rows_of(&self, tile: usize) -> (usize, usize) {
        part_of(self.rows, self.count, tile)
    }

    /// Rounds a tile; `of_tile` is called with its first row and how many it has.
    ///
    /// # Safety
    /// Nobody rounds the same tile at the same time.
    unsafe fn round<'x>(&self, tile: usize, of_tile: &dyn Fn(usize, usize) -> &'x [f32]) {
        let (inputs, group) = (self.inputs, self.group);
        let (row, rows) = self.rows_of(tile);
        let groups = inputs.div_ceil(group);
        // SAFETY: each row is in one tile, and the tile is the caller's alone.
        let (numbers, facts) = unsafe {
            (
                self.numbers.part(row * groups * group, rows * groups * group),
                self.facts.part(row * groups, rows * groups),
            )
        };
        round_tile(self.isa, of_tile(row, rows), inputs, group, numbers, facts);
    }
}

/// Rows that are rounded as soon as they are there.
pub(crate) struct Arriving<'a> {
    tiles: Tiles<'a>,
    missing: &'a [AtomicUsize],
}

impl Arriving<'_> {
    /// Takes note of a part of some rows, and rounds the tiles that are complete with it: `of_tile` gives the rows of one. Each part of
    /// each row is to be told once.
    pub fn arrived<'x>(&self, rows: Range<usize>, of_tile: &dyn Fn(usize, usize) -> &'x [f32]) {
        let most = self.tiles.rows.div_ceil(self.tiles.count.max(1));
        for tile in rows.start / most.max(1)..self.tiles.count {
            let (first, count) = self.tiles.rows_of(tile);
            if first >= rows.end {
                break;
            }
            let parts = (first + count).min(rows.end).saturating_sub(first.max(rows.start));
            // What the others wrote before they told of it is seen by whoever tells last.
            if parts > 0 && self.missing[tile].fetch_sub(parts, Ordering::AcqRel) == parts {
                // SAFETY: only the last part finds nothing missing.
                unsafe { self.tiles.round(tile, of_tile) };
            }
        }
    }
}

for_each_isa! {
    /// Rounds the rows of a tile.
    fn round_tile<V>(x: &[f32], inputs: usize, group: usize, numbers: &mut [i8], facts: &mut [GroupFacts]) {
        let rows = x.len() / inputs;
        for (row, x) in x.chunks_exact(inputs).enumerate() {
            let groups = numbers.chunks_exact_mut(rows * group).zip(facts.chunks_exact_mut(rows));
            for (x, (numbers, facts)) in x.chunks(group).zip(groups) {
                facts[row] = round_group::<V>(x, numbers, row, rows);
            }
        }
    }
}

/// Rounds a group into every `rows`th quad, the first of which is that of a row.
#[inline(always)]
fn round_group<V: Vector>(x: &[f32], numbers: &mut [i8], row: usize, rows: usize) -> GroupFacts {
    // Of less the inverse is infinite.
    const LEAST: f32 = 1e-35;
    let quads = numbers.as_chunks_mut::<QUAD>().0;
    let (whole, rest) = x.as_chunks::<LANES>();
    let mut last = [0.0; LANES];
    if !rest.is_empty() {
        last[..rest.len()].copy_from_slice(rest);
    }
    // SAFETY: all arrays are as long as what is read and written.
    unsafe {
        // Without their sign, floats are ordered as their bits are, infinity and what is not a number last.
        let mut bits = V::larger_bits(V::splat_whole(0), V::load(last.as_ptr()));
        for x in whole {
            bits = V::larger_bits(bits, V::load(x.as_ptr()));
        }
        let most = f32::from_bits(V::largest_lane(bits) as u32);
        if most < LEAST || !most.is_finite() {
            quads.chunks_exact_mut(rows).for_each(|quads| quads[row] = [0; QUAD]);
            let scale = if most < LEAST { 0.0 } else { f32::NAN };
            return GroupFacts {
                scale,
                sum: 0,
                whole: scale,
            };
        }
        let (inverse, round) = (V::splat(127.0 / most), V::splat(ROUND));
        let mut sums = V::splat_whole(0);
        let parts = whole.iter().chain((!rest.is_empty()).then_some(&last));
        let mut room = quads.chunks_mut(LANES / QUAD * rows);
        for (x, quads) in parts.zip(&mut room) {
            let mut rounded = [0; LANES];
            let values = V::fma(V::load(x.as_ptr()), inverse, round);
            sums = V::add_whole(sums, V::store_rounded(rounded.as_mut_ptr(), values));
            put(&rounded, quads, row, rows);
        }
        room.for_each(|quads| put(&[0; LANES], quads, row, rows));
        let (scale, sum) = (most / 127.0, V::sum_lanes(sums));
        GroupFacts {
            scale,
            sum,
            whole: scale * sum as f32,
        }
    }
}

/// Stores the numbers that there is room for.
#[inline(always)]
fn put(rounded: &[i8; LANES], quads: &mut [[i8; QUAD]], row: usize, rows: usize) {
    for (quads, rounded) in quads.chunks_exact_mut(rows).zip(rounded.as_chunks::<QUAD>().0) {
        quads[row] = *rounded;
    }
}

#[cfg(test)]
impl RoundedRows {
    /// Returns whether all of it is the same.
    pub(crate) fn is_like(&self, other: &RoundedRows) -> bool {
        self.numbers[..] == other.numbers[..] && self.facts == other.facts
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rounded(x: &[f32], inputs: usize, group: usize) -> RoundedRows {
        let mut rows = RoundedRows::default();
        rows.round(Isa::detect(), &ThreadPool::new(1), x, inputs, group);
        rows
    }

    /// Returns the numbers of a row as if it were alone.
    fn row(rows: &RoundedRows, row: usize) -> Vec<i8> {
        let tile = (0..rows.tiles).map(|tile| part_of(rows.rows, rows.tiles, tile));
        let (first, count) = tile
            .into_iter()
            .find(|(first, count)| (*first..first + count).contains(&row))
            .unwrap();
        let quads = rows.numbers(first, count).as_chunks::<QUAD>().0;
        quads
            .iter()
            .skip(row - first)
            .step_by(count)
            .flatten()
            .copied()
            .collect()
    }

    #[test]
    fn the_largest_becomes_127_and_each_group_has_its_own_scale() {
        let mut x = [0.0; 24];
        x[..3].copy_from_slice(&[1.0, -2.0, 0.5]);
        x[8] = 254.0;
        let rows = rounded(&x, 24, 8);
        assert_eq!(row(&rows, 0)[..8], [64, -127, 32, 0, 0, 0, 0, 0]);
        assert_eq!(row(&rows, 0)[8..], [127, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        let facts = rows.facts(0, 1);
        assert_eq!((facts[0].scale, facts[0].sum), (2.0 / 127.0, -31));
        assert_eq!(facts[2], GroupFacts::default());
    }

    #[test]
    fn what_is_no_number_stays_none() {
        for odd in [f32::INFINITY, f32::NEG_INFINITY, f32::NAN] {
            let mut x = [2.0; 16];
            x[3] = odd;
            let rows = rounded(&x, 16, 8);
            assert!(rows.facts(0, 1)[0].scale.is_nan(), "{odd}");
            assert_eq!(rows.facts(0, 1)[1].scale, 2.0 / 127.0);
        }
    }

    #[test]
    fn what_is_next_to_nothing_is_nothing() {
        let rows = rounded(&[1e-40, -1e-36, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0], 8, 8);
        assert_eq!(row(&rows, 0), [0; 8]);
        assert_eq!(rows.facts(0, 1)[0], GroupFacts::default());
    }

    #[test]
    fn rows_rounded_together_are_the_same_as_alone_on_every_instruction_set() {
        let x: Vec<f32> = (0..70 * 100).map(|i| ((i * i) as f32 * 0.37).sin() * 3.0).collect();
        for isa in Isa::available() {
            let mut rows = RoundedRows::default();
            rows.round(isa, &ThreadPool::new(3), &x, 100, 32);
            for (number, x) in x.chunks_exact(100).enumerate() {
                let alone = rounded(x, 100, 32);
                assert_eq!(row(&rows, number), row(&alone, 0), "{isa:?}, row {number}");
                assert_eq!(row(&rows, number)[100..], [0; 28], "what fills up the last group");
            }
        }
    }
}
