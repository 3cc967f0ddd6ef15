//! The inner loops of a product: a tile of rows by panels whose sums stay in registers.

use super::{Columns, PANELS, PANELS_ONE_ROW, Write};
use crate::LANES;
use crate::isa::{Isa, Level};
use crate::pool::Shared2d;
use half::bf16;

/// One product, as all its tasks see it.
pub(super) struct Call<'a> {
    pub x: &'a [f32],
    pub rows: usize,
    pub inputs: usize,
    pub outputs: usize,
    pub columns: Columns,
    pub out: &'a Shared2d<'a>,
    pub write: Write,
}

/// Computes the outputs of the panels `from..to`; no other task may compute them.
pub(super) fn panels_f32(isa: Isa, call: &Call<'_>, values: &[f32], from: usize, to: usize) {
    match isa.level() {
        Level::Scalar => walk(call, values, from, to, &scalar::<f32>),
        // SAFETY: the level exists only where its features were detected.
        #[cfg(target_arch = "x86_64")]
        Level::Avx2 => walk(call, values, from, to, &|t| unsafe { x86::avx2::<f32>(t) }),
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Level::Avx512 => walk(call, values, from, to, &|t| unsafe { x86::avx512::<f32>(t) }),
    }
}

/// As [`panels_f32`], for weights in bf16.
pub(super) fn panels_bf16(isa: Isa, call: &Call<'_>, values: &[bf16], from: usize, to: usize) {
    match isa.level() {
        Level::Scalar => walk(call, values, from, to, &scalar::<bf16>),
        // SAFETY: the level exists only where its features were detected.
        #[cfg(target_arch = "x86_64")]
        Level::Avx2 => walk(call, values, from, to, &|t| unsafe { x86::avx2::<bf16>(t) }),
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Level::Avx512 => walk(call, values, from, to, &|t| unsafe { x86::avx512::<bf16>(t) }),
    }
}

/// Rows by panels to multiply: `rows` of `x` from its start on, `panels` whole panels of `values`.
struct Tile<'a, T> {
    call: &'a Call<'a>,
    row: usize,
    rows: usize,
    panel: usize,
    panels: usize,
    values: &'a [T],
}

/// Cuts the panels `from..to` and all rows into tiles.
fn walk<T>(call: &Call<'_>, values: &[T], from: usize, to: usize, tile: &dyn Fn(&Tile<'_, T>)) {
    let stride = LANES * call.inputs;
    let (group, most_rows) = if call.rows == 1 {
        (PANELS_ONE_ROW, 1)
    } else {
        (PANELS, MOST_ROWS)
    };
    let mut panel = from;
    while panel < to {
        let panels = group.min(to - panel);
        let values = &values[panel * stride..(panel + panels) * stride];
        let mut row = 0;
        while row < call.rows {
            let rows = most_rows.min(call.rows - row);
            tile(&Tile {
                call,
                row,
                rows,
                panel,
                panels,
                values,
            });
            row += rows;
        }
        panel += panels;
    }
}

/// Most rows in one tile: with two panels, what sixteen or thirty-two registers hold.
const MOST_ROWS: usize = 8;

impl<T> Tile<'_, T> {
    /// Returns one row of activations.
    #[inline(always)]
    fn x(&self, row: usize) -> &[f32] {
        let at = (self.row + row) * self.call.inputs;
        &self.call.x[at..at + self.call.inputs]
    }

    /// Stores the sums of one row and panel.
    #[inline(always)]
    fn store(&self, row: usize, panel: usize, sums: &[f32; LANES]) {
        let output = (self.panel + panel) * LANES;
        let width = LANES.min(self.call.outputs - output);
        // SAFETY: a panel is computed by one task only, and a task stores one row and panel at a time.
        let out = unsafe { self.call.out.part(self.call.columns.at(self.row + row) + output, width) };
        match self.call.write {
            Write::Replace => out.copy_from_slice(&sums[..width]),
            Write::Add => out.iter_mut().zip(sums).for_each(|(out, sum)| *out += sum),
        }
    }
}

/// A stored weight that widens to `f32`.
trait Weight: Copy {
    fn widen(self) -> f32;
    /// Widens sixteen weights.
    #[cfg(target_arch = "x86_64")]
    unsafe fn load512(at: *const Self) -> std::arch::x86_64::__m512;
    /// Widens eight weights.
    #[cfg(target_arch = "x86_64")]
    unsafe fn load256(at: *const Self) -> std::arch::x86_64::__m256;
}

/// The reference: no vectors, the same order of additions.
fn scalar<T: Weight>(tile: &Tile<'_, T>) {
    for panel in 0..tile.panels {
        let weights = &tile.values[panel * LANES * tile.call.inputs..][..LANES * tile.call.inputs];
        for row in 0..tile.rows {
            let mut sums = [0.0f32; LANES];
            for (x, weights) in tile.x(row).iter().zip(weights.chunks_exact(LANES)) {
                for (sum, weight) in sums.iter_mut().zip(weights) {
                    *sum = x.mul_add(weight.widen(), *sum);
                }
            }
            tile.store(row, panel, &sums);
        }
    }
}

#[cfg(target_arch = "x86_64")]
mod x86 {
    use super::{Tile, Weight};
    use crate::LANES;
    use half::bf16;
    use std::arch::x86_64::*;

    impl Weight for f32 {
        #[inline(always)]
        fn widen(self) -> f32 {
            self
        }

        #[inline(always)]
        unsafe fn load512(at: *const f32) -> __m512 {
            // SAFETY: the caller has AVX-512 and sixteen values at `at`.
            unsafe { _mm512_loadu_ps(at) }
        }

        #[inline(always)]
        unsafe fn load256(at: *const f32) -> __m256 {
            // SAFETY: the caller has AVX2 and eight values at `at`.
            unsafe { _mm256_loadu_ps(at) }
        }
    }

    impl Weight for bf16 {
        #[inline(always)]
        fn widen(self) -> f32 {
            self.to_f32()
        }

        #[inline(always)]
        unsafe fn load512(at: *const bf16) -> __m512 {
            // SAFETY: the caller has AVX-512 and sixteen values at `at`; a bf16 is the upper half of an f32.
            unsafe {
                let bits = _mm512_cvtepu16_epi32(_mm256_loadu_si256(at.cast()));
                _mm512_castsi512_ps(_mm512_slli_epi32::<16>(bits))
            }
        }

        #[inline(always)]
        unsafe fn load256(at: *const bf16) -> __m256 {
            // SAFETY: the caller has AVX2 and eight values at `at`; a bf16 is the upper half of an f32.
            unsafe {
                let bits = _mm256_cvtepu16_epi32(_mm_loadu_si128(at.cast()));
                _mm256_castsi256_ps(_mm256_slli_epi32::<16>(bits))
            }
        }
    }

    /// Calls `$of::<T, ROWS, PANELS>` for the rows and panels of a tile.
    macro_rules! by_shape {
        ($tile:ident, $of:ident, $($rows:literal)*) => {
            match ($tile.rows, $tile.panels) {
                $(($rows, 2) => $of::<T, $rows, 2>($tile),)*
                $(($rows, 1) => $of::<T, $rows, 1>($tile),)*
                (1, 3) => $of::<T, 1, 3>($tile),
                (1, 4) => $of::<T, 1, 4>($tile),
                (rows, panels) => unreachable!("a tile of {rows} rows by {panels} panels"),
            }
        };
    }

    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,fma")]
    pub(super) fn avx512<T: Weight>(tile: &Tile<'_, T>) {
        by_shape!(tile, sums512, 1 2 3 4 5 6 7 8)
    }

    #[target_feature(enable = "avx2,fma")]
    pub(super) fn avx2<T: Weight>(tile: &Tile<'_, T>) {
        by_shape!(tile, sums256, 1 2 3 4 5 6 7 8)
    }

    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,fma")]
    fn sums512<T: Weight, const ROWS: usize, const PANELS: usize>(tile: &Tile<'_, T>) {
        let inputs = tile.call.inputs;
        let x: [&[f32]; ROWS] = std::array::from_fn(|row| tile.x(row));
        let panels: [&[T]; PANELS] =
            std::array::from_fn(|panel| &tile.values[panel * LANES * inputs..][..LANES * inputs]);
        let mut sums = [[_mm512_setzero_ps(); PANELS]; ROWS];
        for i in 0..inputs {
            // SAFETY: each panel holds `LANES` values for each of the `inputs`.
            let weights: [__m512; PANELS] =
                std::array::from_fn(|panel| unsafe { T::load512(panels[panel].as_ptr().add(i * LANES)) });
            for row in 0..ROWS {
                // SAFETY: each row holds `inputs` values.
                let x = _mm512_set1_ps(unsafe { *x[row].get_unchecked(i) });
                for panel in 0..PANELS {
                    sums[row][panel] = _mm512_fmadd_ps(x, weights[panel], sums[row][panel]);
                }
            }
        }
        for row in 0..ROWS {
            for panel in 0..PANELS {
                let mut out = [0.0; LANES];
                // SAFETY: `out` has room for sixteen values.
                unsafe { _mm512_storeu_ps(out.as_mut_ptr(), sums[row][panel]) };
                tile.store(row, panel, &out);
            }
        }
    }

    /// Two registers to a panel; so many rows at once that the sums still fit.
    #[target_feature(enable = "avx2,fma")]
    fn sums256<T: Weight, const ROWS: usize, const PANELS: usize>(tile: &Tile<'_, T>) {
        let inputs = tile.call.inputs;
        for panel in 0..PANELS {
            let weights = &tile.values[panel * LANES * inputs..][..LANES * inputs];
            let mut row = 0;
            while row < ROWS {
                match ROWS - row {
                    1 => sums256_rows::<T, 1>(tile, panel, weights, row),
                    2 | 3 => sums256_rows::<T, 2>(tile, panel, weights, row),
                    _ => sums256_rows::<T, 4>(tile, panel, weights, row),
                }
                row += match ROWS - row {
                    1 => 1,
                    2 | 3 => 2,
                    _ => 4,
                };
            }
        }
    }

    #[target_feature(enable = "avx2,fma")]
    fn sums256_rows<T: Weight, const ROWS: usize>(tile: &Tile<'_, T>, panel: usize, weights: &[T], from: usize) {
        let x: [&[f32]; ROWS] = std::array::from_fn(|row| tile.x(from + row));
        let mut sums = [[_mm256_setzero_ps(); 2]; ROWS];
        for i in 0..tile.call.inputs {
            // SAFETY: the panel holds `LANES` values, two registers full, for each input.
            let pair = unsafe {
                let at = weights.as_ptr().add(i * LANES);
                [T::load256(at), T::load256(at.add(8))]
            };
            for row in 0..ROWS {
                // SAFETY: each row holds `inputs` values.
                let x = _mm256_set1_ps(unsafe { *x[row].get_unchecked(i) });
                sums[row][0] = _mm256_fmadd_ps(x, pair[0], sums[row][0]);
                sums[row][1] = _mm256_fmadd_ps(x, pair[1], sums[row][1]);
            }
        }
        for row in 0..ROWS {
            let mut out = [0.0; LANES];
            // SAFETY: `out` has room for two registers of eight values.
            unsafe {
                _mm256_storeu_ps(out.as_mut_ptr(), sums[row][0]);
                _mm256_storeu_ps(out.as_mut_ptr().add(8), sums[row][1]);
            }
            tile.store(from + row, panel, &out);
        }
    }
}

#[cfg(not(target_arch = "x86_64"))]
impl Weight for f32 {
    fn widen(self) -> f32 {
        self
    }
}

#[cfg(not(target_arch = "x86_64"))]
impl Weight for bf16 {
    fn widen(self) -> f32 {
        self.to_f32()
    }
}
