//! The sums of a tile: they stay in registers while its inputs go by, and wait in memory where these come in parts.

use crate::LANES;
use crate::isa::for_each_isa;
use crate::thread_pool::Shared2d;
use crate::vector::Vector;
use std::ops::Range;

/// What becomes of the output that was there before.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Write {
    /// It is replaced by the product.
    Replace,
    /// The product is added to it.
    Add,
}

impl Write {
    /// Writes a panel's values into a row that begins at `row`: as many of them as there are columns.
    ///
    /// # Safety
    /// As for [`Vector`], and no other thread has these columns of the row.
    #[inline(always)]
    pub(crate) unsafe fn panel<V: Vector>(
        self,
        out: &Shared2d<'_, f32>,
        row: usize,
        columns: Range<usize>,
        values: V::Floats,
    ) {
        // SAFETY: the caller's; a whole panel is sixteen columns.
        unsafe {
            if columns.len() >= LANES {
                let out = out.part(row + columns.start, LANES).as_mut_ptr();
                let values = match self {
                    Write::Replace => values,
                    Write::Add => V::fma(V::splat(1.0), V::load(out), values),
                };
                V::store(out, values);
                return;
            }
            let mut whole = [0.0; LANES];
            V::store(whole.as_mut_ptr(), values);
            let out = out.part(row + columns.start, columns.len()).iter_mut().zip(whole);
            match self {
                Write::Replace => out.for_each(|(out, value)| *out = value),
                Write::Add => out.for_each(|(out, value)| *out += value),
            }
        }
    }
}

/// Where the outputs of a product lie in rows that hold others as well.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Columns {
    /// Length of a row.
    pub stride: usize,
    /// Where in a row the outputs begin.
    pub from: usize,
}

impl Columns {
    /// Returns where a row's outputs begin.
    pub(crate) fn at(self, row: usize) -> usize {
        row * self.stride + self.from
    }

    /// Makes sure that so many outputs fit.
    ///
    /// # Panics
    /// When they do not.
    pub(crate) fn check(self, outputs: usize, rows: usize, len: usize) {
        assert!(
            self.from + outputs <= self.stride && len == rows * self.stride,
            "{outputs} outputs in {self:?}, {rows} rows and {len} values"
        );
    }
}

/// How a tile's inputs come.
pub(crate) trait Inputs {
    /// Whether in parts.
    const IN_PARTS: bool;
}

/// All at once: sums begin at zero and are written out at the end.
pub(crate) struct Together;

/// In parts: sums are read from memory and go back there.
pub(crate) struct InParts;

impl Inputs for Together {
    const IN_PARTS: bool = false;
}

impl Inputs for InParts {
    const IN_PARTS: bool = true;
}

/// Where a product goes.
pub(crate) struct Output<'a> {
    pub out: &'a Shared2d<'a, f32>,
    pub columns: Columns,
    pub outputs: usize,
    pub write: Write,
}

/// Rows and panels whose sums are kept together.
#[derive(Clone, Copy)]
pub(crate) struct SumPlace {
    pub row: usize,
    pub rows: usize,
    /// The number of the first panel.
    pub panel: usize,
    pub panels: usize,
}

impl Output<'_> {
    /// Writes a panel's sums of a row.
    ///
    /// # Safety
    /// As for [`Vector`], and no other thread has the panel's columns.
    #[inline(always)]
    unsafe fn panel<V: Vector>(&self, row: usize, panel: usize, sums: V::Floats) {
        let columns = panel * LANES..self.outputs;
        // SAFETY: the caller's.
        unsafe { self.write.panel::<V>(self.out, self.columns.at(row), columns, sums) };
    }
}

/// Returns the sums with which a tile begins.
///
/// # Safety
/// As for [`Vector`]; where inputs come in parts, `sums` are those of the tile: `[ROWS, PANELS, LANES]`.
#[inline(always)]
pub(crate) unsafe fn begin<V: Vector, I: Inputs, const ROWS: usize, const PANELS: usize>(
    sums: &[f32],
) -> [[V::Floats; PANELS]; ROWS] {
    // SAFETY: the caller's.
    unsafe {
        let mut totals = [[V::splat(0.0); PANELS]; ROWS];
        if I::IN_PARTS {
            for row in 0..ROWS {
                for panel in 0..PANELS {
                    totals[row][panel] = V::load(sums.as_ptr().add((row * PANELS + panel) * LANES));
                }
            }
        }
        totals
    }
}

/// Takes the sums with which a tile ends.
///
/// # Safety
/// As for [`begin`], and no other thread has the panels' columns.
#[inline(always)]
pub(crate) unsafe fn end<V: Vector, I: Inputs, const ROWS: usize, const PANELS: usize>(
    output: &Output<'_>,
    place: SumPlace,
    totals: [[V::Floats; PANELS]; ROWS],
    sums: &mut [f32],
) {
    // SAFETY: the caller's.
    unsafe {
        for row in 0..ROWS {
            for panel in 0..PANELS {
                let total = totals[row][panel];
                match I::IN_PARTS {
                    true => V::store(sums.as_mut_ptr().add((row * PANELS + panel) * LANES), total),
                    false => output.panel::<V>(place.row + row, place.panel + panel, total),
                }
            }
        }
    }
}

for_each_isa! {
    /// Writes out the sums of a tile whose inputs came in parts. No other thread may have the panels' columns.
    pub(crate) fn write_out<V>(output: &Output<'_>, place: SumPlace, sums: &[f32]) {
        let sums = sums.as_chunks::<LANES>().0;
        for row in 0..place.rows {
            for panel in 0..place.panels {
                // SAFETY: sums are sixteen values; the rest is the caller's.
                unsafe {
                    let total = V::load(sums[row * place.panels + panel].as_ptr());
                    output.panel::<V>(place.row + row, place.panel + panel, total);
                }
            }
        }
    }
}
