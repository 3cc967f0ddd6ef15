//! The inner loops of a product of small whole numbers: tiles of rows by panels whose sums stay in registers.

use super::{Bits, GroupMatrix, RoundedRows};
use crate::isa::{Isa, for_each_isa};
use crate::sums::{InParts, Inputs, Output, SumPlace, Together, begin, end, write_out};
use crate::tiling::{PANELS_ONE_ROW, Space, by_tile, part_of};
use crate::vector::{BLOCK, QUAD, Vector};
use crate::{Aligned, LANES};
use std::ops::Range;

/// Inputs whose weights for one tile's panels are read by all rows while they lie in the nearest cache.
const CHUNK: usize = 512;
/// What the 4-bit codes stand for.
const CODES: [u8; 16] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15];

/// One product, as all its tasks see it.
pub(super) struct Call<'a> {
    pub matrix: &'a GroupMatrix,
    pub rounded: &'a RoundedRows,
    pub output: Output<'a>,
}

/// Computes the outputs of some panels; no other task may compute them.
pub(super) fn walk(isa: Isa, call: &Call<'_>, panels: Range<usize>, space: &mut Space) {
    let Call { matrix, rounded, .. } = call;
    if rounded.tiles > 1 {
        return in_chunks(isa, call, panels, space);
    }
    let width = if rounded.rows == 1 {
        PANELS_ONE_ROW
    } else {
        isa.whole_tile().panels
    };
    let stride = rounded.groups * matrix.bits.bytes(LANES * matrix.group);
    for panel in panels.clone().step_by(width) {
        let tile = Tile {
            row: 0,
            rows: rounded.rows,
            panel,
            panels: &Panels {
                numbers: &matrix.numbers[panel * stride..],
                stride,
                count: width.min(panels.end - panel),
                groups: 0..rounded.groups,
            },
        };
        match matrix.bits {
            Bits::Eight => tile_of_bytes(isa, call, &tile),
            Bits::Four => tile_of_codes(isa, call, &tile),
        }
    }
}

/// Goes through all panels and rows with one chunk of the groups after the other: of a chunk, the numbers of a tile's panels lie
/// in the nearest cache, where they are unpacked once, and the rows in the next.
fn in_chunks(isa: Isa, call: &Call<'_>, panels: Range<usize>, space: &mut Space) {
    let Call { matrix, rounded, .. } = call;
    let bytes = matrix.bits.bytes(LANES * matrix.group);
    let stride = rounded.groups * bytes;
    let width = isa.whole_tile().panels;
    let chunk = (CHUNK / matrix.group).max(1);
    let Space {
        bytes: unpacked, sums, ..
    } = space;
    sums.resize(panels.len() * rounded.rows * LANES);
    sums.fill(0.0);
    for first in (0..rounded.groups).step_by(chunk) {
        for panel in panels.clone().step_by(width) {
            let mut chunk = Panels {
                numbers: &matrix.numbers[panel * stride + first * bytes..],
                stride,
                count: width.min(panels.end - panel),
                groups: first..rounded.groups.min(first + chunk),
            };
            if matrix.bits == Bits::Four {
                let len = chunk.groups.len() * bytes;
                unpack(isa, &chunk, len, unpacked);
                (chunk.numbers, chunk.stride) = (&*unpacked, 2 * len);
            }
            let sums = &mut sums[(panel - panels.start) * rounded.rows * LANES..];
            for tile in 0..rounded.tiles {
                let (row, rows) = part_of(rounded.rows, rounded.tiles, tile);
                let tile = Tile {
                    row,
                    rows,
                    panel,
                    panels: &chunk,
                };
                let sums = &mut sums[row * chunk.count * LANES..][..rows * chunk.count * LANES];
                part_of_tile(isa, call, &tile, sums);
                if chunk.groups.end == rounded.groups {
                    write_out(isa, &call.output, tile.place(), sums);
                }
            }
        }
    }
}

/// The numbers of some groups for a few panels next to one another.
struct Panels<'a> {
    /// From the first of the groups on.
    numbers: &'a [u8],
    /// From one panel to the next.
    stride: usize,
    count: usize,
    groups: Range<usize>,
}

/// Rows and panels to multiply.
struct Tile<'a> {
    row: usize,
    rows: usize,
    /// The number of the first panel.
    panel: usize,
    panels: &'a Panels<'a>,
}

for_each_isa! {
    fn tile_of_bytes<V>(call: &Call<'_>, tile: &Tile<'_>) {
        by_tile!(tile.rows, tile.panels.count, multiply::<V, Bytes, Together>(call, tile, &mut []));
    }
}

for_each_isa! {
    fn part_of_tile<V>(call: &Call<'_>, tile: &Tile<'_>, sums: &mut [f32]) {
        by_tile!(tile.rows, tile.panels.count, multiply::<V, Bytes, InParts>(call, tile, sums));
    }
}

for_each_isa! {
    fn tile_of_codes<V>(call: &Call<'_>, tile: &Tile<'_>) {
        by_tile!(tile.rows, tile.panels.count, multiply::<V, Codes, Together>(call, tile, &mut []));
    }
}

for_each_isa! {
    /// Unpacks so many bytes of codes of each panel.
    fn unpack<V>(panels: &Panels<'_>, len: usize, to: &mut Aligned<u8>) {
        to.resize(panels.count * 2 * len);
        for (panel, to) in to.chunks_exact_mut(2 * len).enumerate() {
            let from = &panels.numbers[panel * panels.stride..][..len];
            for (from, to) in from.chunks_exact(BLOCK).zip(to.chunks_exact_mut(2 * BLOCK)) {
                // SAFETY: the chunks are as long as what is read and written.
                unsafe { V::expand_pair(from.as_ptr(), &CODES, to.as_mut_ptr()) };
            }
        }
    }
}

/// How numbers are packed: two quads at a time.
trait Packing {
    /// Bytes that a pair of blocks takes.
    const PAIR: usize;
    /// Reads a pair of blocks.
    ///
    /// # Safety
    /// As for [`Vector`].
    unsafe fn pair<V: Vector>(at: *const u8) -> [V::Block; 2];
}

/// A byte to a number.
struct Bytes;

/// Half a byte to a number.
struct Codes;

impl Packing for Bytes {
    const PAIR: usize = 2 * BLOCK;

    #[inline(always)]
    unsafe fn pair<V: Vector>(at: *const u8) -> [V::Block; 2] {
        // SAFETY: the caller's.
        unsafe { [V::block(at), V::block(at.add(BLOCK))] }
    }
}

impl Packing for Codes {
    const PAIR: usize = BLOCK;

    #[inline(always)]
    unsafe fn pair<V: Vector>(at: *const u8) -> [V::Block; 2] {
        // SAFETY: the caller's.
        unsafe { V::block_pair(at, &CODES) }
    }
}

impl Tile<'_> {
    fn place(&self) -> SumPlace {
        SumPlace {
            row: self.row,
            rows: self.rows,
            panel: self.panel,
            panels: self.panels.count,
        }
    }
}

/// Multiplies a tile of rows and panels. `sums` are what was summed up so far, `[ROWS, PANELS, LANES]`; there are none where all
/// groups come at once.
#[inline(always)]
fn multiply<V: Vector, P: Packing, I: Inputs, const ROWS: usize, const PANELS: usize>(
    call: &Call<'_>,
    tile: &Tile<'_>,
    sums: &mut [f32],
) {
    if ROWS > V::WHOLE_TILE.rows || (ROWS > 1 && PANELS > V::WHOLE_TILE.panels) {
        unreachable!("a tile of {ROWS} rows by {PANELS} panels");
    }
    let Call { matrix, rounded, .. } = call;
    let part = tile.panels;
    let (groups, group) = (rounded.groups, matrix.group);
    let bytes = group / (2 * QUAD) * P::PAIR;
    let (x, facts) = (rounded.numbers(tile.row, ROWS), rounded.facts(tile.row, ROWS));
    let scales = &matrix.scales[tile.panel * groups * LANES..][..PANELS * groups * LANES];
    let mut minima: Option<&[f32]> = None;
    if let Some(all) = &matrix.minima {
        minima = Some(&all[tile.panel * groups * LANES..][..PANELS * groups * LANES]);
    }
    assert!(
        part.numbers.len() >= (PANELS - 1) * part.stride + part.groups.len() * bytes
            && (!I::IN_PARTS || sums.len() == ROWS * PANELS * LANES)
            && part.groups.end <= groups,
        "a tile within its operands"
    );
    let offset = i32::from(matrix.bits.offset());
    // SAFETY: what is read lies within the row's numbers and facts, the panels' numbers and scales, and within `sums` where they are
    // used, as was just checked.
    unsafe {
        let mut totals = begin::<V, I, ROWS, PANELS>(sums);
        let mut numbers = part.numbers.as_ptr();
        for at in part.groups.clone() {
            let mut dots = [[V::splat_whole(0); PANELS]; ROWS];
            if minima.is_none() {
                for row in 0..ROWS {
                    let sum = facts.get_unchecked(at * ROWS + row).sum;
                    for panel in 0..PANELS {
                        dots[row][panel] = V::splat_whole(-offset * sum);
                    }
                }
            }
            let x = x.as_ptr().add(at * group * ROWS);
            for pair in 0..group / (2 * QUAD) {
                let mut blocks = [P::pair::<V>(numbers.add(pair * P::PAIR)); PANELS];
                for panel in 1..PANELS {
                    blocks[panel] = P::pair::<V>(numbers.add(panel * part.stride + pair * P::PAIR));
                }
                for quad in 0..2 {
                    for row in 0..ROWS {
                        let x = V::quad(x.add(((2 * pair + quad) * ROWS + row) * QUAD));
                        for panel in 0..PANELS {
                            dots[row][panel] = V::dot(dots[row][panel], blocks[panel][quad], x);
                        }
                    }
                }
            }
            numbers = numbers.add(bytes);
            for panel in 0..PANELS {
                let place = (panel * groups + at) * LANES;
                let scale = V::load(scales.as_ptr().add(place));
                for row in 0..ROWS {
                    let step = V::splat(facts.get_unchecked(at * ROWS + row).scale);
                    let whole = V::to_floats(dots[row][panel]);
                    totals[row][panel] = V::fma(V::mul(scale, step), whole, totals[row][panel]);
                }
                if let Some(minima) = minima {
                    let minimum = V::load(minima.as_ptr().add(place));
                    for row in 0..ROWS {
                        let whole = V::splat(facts.get_unchecked(at * ROWS + row).whole);
                        totals[row][panel] = V::fma(minimum, whole, totals[row][panel]);
                    }
                }
            }
        }
        end::<V, I, ROWS, PANELS>(&call.output, tile.place(), totals, sums);
    }
}
