//! The inner loops of a product of floats: tiles of rows by panels whose sums stay in registers.

use crate::isa::{Isa, for_each_isa};
use crate::sums::{InParts, Inputs, Output, SumPlace, Together, begin, end, write_out};
use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::{PANELS_ONE_ROW, Space, by_tile, part_of};
use crate::vector::Vector;
use crate::{Aligned, LANES};
use half::{bf16, f16};
use std::ops::Range;

/// Inputs whose weights for one tile's panels are read by all rows while they lie in the nearest cache.
const CHUNK: usize = 128;

/// One product, as all its tasks see it.
pub(super) struct Call<'a> {
    /// Tile by tile, input by input, one value for each row of the tile.
    pub x: &'a [f32],
    pub rows: usize,
    /// How many tiles the rows are cut into.
    pub tiles: usize,
    pub inputs: usize,
    pub output: Output<'a>,
}

/// Packed weights, as they are stored.
pub(super) trait Stored {
    /// Returns those of some panels and inputs as they are, or widens them into `to`.
    fn wide<'a>(
        &'a self,
        isa: Isa,
        panels: Range<usize>,
        inputs: Range<usize>,
        to: &'a mut Aligned<f32>,
    ) -> Panels<'a, f32>;
    /// Returns a panel's weights from an input on.
    fn ahead(&self, panel: usize, input: usize) -> Ahead;
    /// Computes the outputs of some panels where the rows are one tile.
    fn one_tile(&self, isa: Isa, call: &Call<'_>, panels: Range<usize>, space: &mut Space);
}

/// A stored weight that widens to `f32`.
pub(super) trait Weight: Copy {
    /// Reads and widens sixteen weights.
    ///
    /// # Safety
    /// As for [`Vector`].
    unsafe fn load<V: Vector>(at: *const Self) -> V::Floats;
    /// Returns the weights as they are, or widens them into `to`.
    fn wide<'a>(isa: Isa, weights: Panels<'a, Self>, to: &'a mut Aligned<f32>) -> Panels<'a, f32>;
    /// Multiplies a tile whose inputs come all at once.
    fn tile(isa: Isa, call: &Call<'_>, tile: &Tile<'_, Self>);
}

impl Weight for f32 {
    #[inline(always)]
    unsafe fn load<V: Vector>(at: *const f32) -> V::Floats {
        // SAFETY: the caller's.
        unsafe { V::load(at) }
    }

    fn wide<'a>(_: Isa, weights: Panels<'a, f32>, _: &'a mut Aligned<f32>) -> Panels<'a, f32> {
        weights
    }

    fn tile(isa: Isa, call: &Call<'_>, tile: &Tile<'_, f32>) {
        tile_f32(isa, call, tile);
    }
}

/// Makes a float that is narrower than 32 bits a weight; `$load` is how vectors read it.
macro_rules! narrow {
    ($weight:ty, $load:ident, $widen:ident, $tile:ident) => {
        impl Weight for $weight {
            #[inline(always)]
            unsafe fn load<V: Vector>(at: *const $weight) -> V::Floats {
                // SAFETY: the caller's.
                unsafe { V::$load(at) }
            }

            fn wide<'a>(isa: Isa, weights: Panels<'a, $weight>, to: &'a mut Aligned<f32>) -> Panels<'a, f32> {
                $widen(isa, weights, to);
                Panels::beside(to, weights.count, weights.inputs)
            }

            fn tile(isa: Isa, call: &Call<'_>, tile: &Tile<'_, $weight>) {
                $tile(isa, call, tile);
            }
        }

        for_each_isa! {
            fn $tile<V>(call: &Call<'_>, tile: &Tile<'_, $weight>) {
                by_tile!(tile.rows, tile.panels.count, multiply::<V, $weight, Together>(call, tile, &mut []));
            }
        }

        for_each_isa! {
            fn $widen<V>(panels: Panels<'_, $weight>, to: &mut Aligned<f32>) {
                widen::<V, $weight>(panels, to);
            }
        }
    };
}

narrow!(bf16, load_bf16, widen_bf16, tile_bf16);
narrow!(f16, load_f16, widen_f16, tile_f16);

for_each_isa! {
    fn tile_f32<V>(call: &Call<'_>, tile: &Tile<'_, f32>) {
        by_tile!(tile.rows, tile.panels.count, multiply::<V, f32, Together>(call, tile, &mut []));
    }
}

for_each_isa! {
    fn part_of_tile<V>(call: &Call<'_>, tile: &Tile<'_, f32>, sums: &mut [f32]) {
        by_tile!(tile.rows, tile.panels.count, multiply::<V, f32, InParts>(call, tile, sums));
    }
}

#[inline(always)]
fn widen<V: Vector, T: Weight>(panels: Panels<'_, T>, to: &mut Aligned<f32>) {
    let len = panels.inputs * LANES;
    to.resize(panels.count * len);
    for (panel, to) in to.chunks_exact_mut(len).enumerate() {
        let from = &panels.weights[panel * panels.stride..][..len];
        for (from, to) in from.chunks_exact(LANES).zip(to.chunks_exact_mut(LANES)) {
            // SAFETY: both chunks are sixteen values long.
            unsafe { V::store(to.as_mut_ptr(), T::load::<V>(from.as_ptr())) };
        }
    }
}

/// Weights that stand for themselves.
pub(super) struct Plain<'a, T> {
    pub values: &'a [T],
    pub inputs: usize,
}

impl<T> Plain<'_, T> {
    fn panels(&self, panels: Range<usize>, inputs: Range<usize>) -> Panels<'_, T> {
        let stride = LANES * self.inputs;
        Panels {
            weights: &self.values[panels.start * stride + inputs.start * LANES..],
            stride,
            count: panels.len(),
            inputs: inputs.len(),
        }
    }
}

impl<T: Weight> Stored for Plain<'_, T> {
    fn wide<'a>(
        &'a self,
        isa: Isa,
        panels: Range<usize>,
        inputs: Range<usize>,
        to: &'a mut Aligned<f32>,
    ) -> Panels<'a, f32> {
        T::wide(isa, self.panels(panels, inputs), to)
    }

    fn ahead(&self, panel: usize, input: usize) -> Ahead {
        Ahead::of(self.values, (panel * self.inputs + input) * LANES)
    }

    fn one_tile(&self, isa: Isa, call: &Call<'_>, panels: Range<usize>, _: &mut Space) {
        for panels in runs(isa, call, panels) {
            let tile = Tile {
                row: 0,
                rows: call.rows,
                panel: panels.start,
                panels: self.panels(panels, 0..call.inputs),
                first: 0,
                next: None,
            };
            T::tile(isa, call, &tile);
        }
    }
}

/// Computes the outputs of some panels; no other task may compute them.
pub(super) fn walk(isa: Isa, call: &Call<'_>, weights: &impl Stored, panels: Range<usize>, space: &mut Space) {
    match call.tiles {
        1 => weights.one_tile(isa, call, panels, space),
        _ => in_chunks(isa, call, weights, panels, space),
    }
}

/// Cuts panels into as many as a tile has.
fn runs(isa: Isa, call: &Call<'_>, panels: Range<usize>) -> impl ExactSizeIterator<Item = Range<usize>> + Clone {
    let width = match call.rows {
        1 => PANELS_ONE_ROW,
        _ => isa.float_tile().panels,
    };
    let end = panels.end;
    panels.step_by(width).map(move |first| first..end.min(first + width))
}

/// Lays rows tile by tile, input by input, so that a tile's values come in one stream.
pub(super) fn lay_rows(threads: &ThreadPool, x: &[f32], inputs: usize, tiles: usize, laid: &mut Aligned<f32>) {
    let rows = x.len() / inputs;
    laid.resize(x.len());
    let laid = Shared2d::new(laid);
    threads.run(tiles, &|tile| {
        let (row, rows) = part_of(rows, tiles, tile);
        // SAFETY: each row is in one tile, and each tile the work of one task.
        let laid = unsafe { laid.part(row * inputs, rows * inputs) };
        let x = &x[row * inputs..(row + rows) * inputs];
        match rows {
            12 => lay_tile::<12>(x, laid),
            11 => lay_tile::<11>(x, laid),
            10 => lay_tile::<10>(x, laid),
            9 => lay_tile::<9>(x, laid),
            8 => lay_tile::<8>(x, laid),
            7 => lay_tile::<7>(x, laid),
            6 => lay_tile::<6>(x, laid),
            5 => lay_tile::<5>(x, laid),
            4 => lay_tile::<4>(x, laid),
            3 => lay_tile::<3>(x, laid),
            2 => lay_tile::<2>(x, laid),
            _ => lay_tile::<1>(x, laid),
        }
    });
}

/// Lays the rows of a tile.
fn lay_tile<const ROWS: usize>(x: &[f32], laid: &mut [f32]) {
    let inputs = x.len() / ROWS;
    let mut rows = [&x[..0]; ROWS];
    for (row, x) in rows.iter_mut().zip(x.chunks_exact(inputs)) {
        *row = x;
    }
    for (input, laid) in laid.as_chunks_mut::<ROWS>().0.iter_mut().enumerate().take(inputs) {
        for row in 0..ROWS {
            laid[row] = rows[row][input];
        }
    }
}

/// Goes through all panels and rows with one chunk of the inputs after the other: of a chunk, the weights of a tile's panels lie
/// in the nearest cache, where they are widened once, and the rows in the next.
pub(super) fn in_chunks(isa: Isa, call: &Call<'_>, weights: &impl Stored, panels: Range<usize>, space: &mut Space) {
    let Space { widened, sums, .. } = space;
    sums.resize(panels.len() * call.rows * LANES);
    sums.fill(0.0);
    let (chunks, runs) = (call.inputs.div_ceil(CHUNK), runs(isa, call, panels.clone()));
    let steps = chunks * runs.len();
    let step = |number: usize| {
        // One tile reads weights once: they come in one stream for each panel.
        let (chunk, run) = match call.tiles {
            1 => (number % chunks, number / chunks),
            _ => (number / runs.len(), number % runs.len()),
        };
        let few = runs.clone().nth(run).filter(|_| number < steps);
        few.map(|few| (chunk * CHUNK, few))
    };
    for number in 0..steps {
        let (first, few) = step(number).expect("a step of each number");
        let inputs = first..call.inputs.min(first + CHUNK);
        let panel = few.start;
        let chunk = weights.wide(isa, few, inputs.clone(), widened);
        let sums = &mut sums[(panel - panels.start) * call.rows * LANES..];
        for tile in 0..call.tiles {
            let (row, rows) = part_of(call.rows, call.tiles, tile);
            let sums = &mut sums[row * chunk.count * LANES..][..rows * chunk.count * LANES];
            // Each of the first tiles asks for what the next step reads of one panel.
            let next = step(number + 1).filter(|(_, few)| tile < few.len());
            let tile = Tile {
                row,
                rows,
                panel,
                panels: chunk,
                first,
                next: next.map(|(first, few)| weights.ahead(few.start + tile, first)),
            };
            part_of_tile(isa, call, &tile, sums);
            if inputs.end == call.inputs {
                write_out(isa, &call.output, tile.place(), sums);
            }
        }
    }
}

/// The weights of some inputs for a few panels next to one another.
#[derive(Clone, Copy)]
pub(super) struct Panels<'a, T> {
    /// From the first of the inputs on.
    weights: &'a [T],
    /// From one panel to the next.
    stride: usize,
    count: usize,
    inputs: usize,
}

impl<'a> Panels<'a, f32> {
    /// Returns widened weights that lie beside one another.
    pub fn beside(weights: &'a [f32], count: usize, inputs: usize) -> Panels<'a, f32> {
        Panels {
            weights,
            stride: inputs * LANES,
            count,
            inputs,
        }
    }
}

/// Rows and panels to multiply.
pub(super) struct Tile<'a, T> {
    row: usize,
    rows: usize,
    /// The number of the first panel.
    panel: usize,
    panels: Panels<'a, T>,
    /// The first of the inputs.
    first: usize,
    /// What is read next, to be asked for meanwhile.
    next: Option<Ahead>,
}

/// The weights of a panel, to be asked for input by input. None of them is read, so they may reach beyond what there is.
#[derive(Clone, Copy)]
pub(super) struct Ahead {
    at: *const u8,
    /// Bytes from one input to the next.
    step: usize,
}

impl Ahead {
    /// Returns the weights from one of their places on.
    pub fn of<T>(weights: &[T], place: usize) -> Ahead {
        Ahead {
            at: weights.as_ptr().wrapping_add(place).cast(),
            step: LANES * size_of::<T>(),
        }
    }
}

impl<T> Tile<'_, T> {
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
/// inputs come at once.
#[inline(always)]
fn multiply<V: Vector, T: Weight, I: Inputs, const ROWS: usize, const PANELS: usize>(
    call: &Call<'_>,
    tile: &Tile<'_, T>,
    sums: &mut [f32],
) {
    if ROWS > V::FLOAT_TILE.rows || (ROWS > 1 && PANELS > V::FLOAT_TILE.panels) {
        unreachable!("a tile of {ROWS} rows by {PANELS} panels");
    }
    let Panels {
        weights,
        stride,
        inputs: count,
        ..
    } = tile.panels;
    let inputs = call.inputs;
    let x = &call.x[tile.row * inputs + tile.first * ROWS..];
    assert!(
        x.len() >= ROWS * count
            && weights.len() >= (PANELS - 1) * stride + count * LANES
            && (!I::IN_PARTS || sums.len() == ROWS * PANELS * LANES),
        "a tile within its operands"
    );
    // SAFETY: what is read lies within `x` and `weights`, and within `sums` where they are used, as was just checked.
    unsafe {
        let mut totals = begin::<V, I, ROWS, PANELS>(sums);
        let (x, weights) = (x.as_ptr(), weights.as_ptr());
        // Without a next one, what lies in the cache already.
        let next = tile.next.unwrap_or(Ahead { at: x.cast(), step: 0 });
        for i in 0..count {
            if I::IN_PARTS {
                V::prefetch(next.at.wrapping_add(i * next.step));
            }
            let mut loaded = [V::splat(0.0); PANELS];
            for panel in 0..PANELS {
                loaded[panel] = T::load::<V>(weights.add(panel * stride + i * LANES));
            }
            for row in 0..ROWS {
                let x = V::splat(*x.add(i * ROWS + row));
                for panel in 0..PANELS {
                    totals[row][panel] = V::fma(x, loaded[panel], totals[row][panel]);
                }
            }
        }
        end::<V, I, ROWS, PANELS>(&call.output, tile.place(), totals, sums);
    }
}
