//! Weights as 8-bit floats, as checkpoints store them: with a scale for each output, or for each block of its inputs.

use crate::cut::cut;
use std::borrow::Cow;
use std::ops::Range;

/// Scales below are multiplied without overflow, whatever the weight.
const MOST_SCALE: f32 = 1e30;

/// A matrix of 8-bit floats with four bits of exponent and three of fraction ("FP8 Formats for Deep Learning", Micikevicius et
/// al., 2022), none of them NaN. A weight is the float times its block's scale, rounded to 32 bits.
pub struct Float8Weights<'a> {
    /// Weights of a row.
    pub inputs: usize,
    /// Weights of a row that share a scale; the last block may be shorter.
    pub block: usize,
    /// `[outputs, inputs]`.
    pub numbers: Cow<'a, [u8]>,
    /// `[outputs, blocks]`.
    pub scales: Vec<f32>,
}

impl<'a> Float8Weights<'a> {
    /// Returns a matrix whose scales are each for a block of `[outputs, inputs]`; nothing where a number is NaN or a scale is too
    /// large, as kernels want neither.
    ///
    /// # Panics
    /// When the numbers are not whole rows of `inputs`, or a block has no scale.
    pub(crate) fn of_blocks(
        numbers: Cow<'a, [u8]>,
        inputs: usize,
        scales: &[f32],
        block: [usize; 2],
    ) -> Option<Float8Weights<'a>> {
        assert!(numbers.len().is_multiple_of(inputs), "rows of {inputs}");
        let usable = |scale: &f32| scale.abs() < MOST_SCALE;
        if numbers.iter().any(|bits| bits & 0x7f == 0x7f) || !scales.iter().all(usable) {
            return None;
        }
        let across = inputs.div_ceil(block[1]);
        let of_row = |row: usize| &scales[row / block[0] * across..][..across];
        Some(Float8Weights {
            inputs,
            block: block[1],
            scales: (0..numbers.len() / inputs).flat_map(of_row).copied().collect(),
            numbers,
        })
    }

    /// Returns the values.
    pub fn values(&self) -> Vec<f32> {
        let blocks = self.inputs.div_ceil(self.block);
        let rows = self
            .numbers
            .chunks_exact(self.inputs)
            .zip(self.scales.chunks_exact(blocks));
        rows.flat_map(|(row, scales)| {
            let blocks = row.chunks(self.block).zip(scales);
            blocks.flat_map(|(numbers, scale)| numbers.iter().map(move |bits| e4m3(*bits) * scale))
        })
        .collect()
    }

    /// Returns some rows, and of these some columns; nothing where the columns begin within a block and reach beyond it.
    pub(crate) fn part(&self, rows: &[Range<usize>], columns: Range<usize>) -> Option<Float8Weights<'static>> {
        let first = columns.start / self.block;
        let is_within = columns.end <= (first + 1) * self.block;
        if !is_within && !columns.start.is_multiple_of(self.block) {
            return None;
        }
        let blocks = self.inputs.div_ceil(self.block);
        Some(Float8Weights {
            inputs: columns.len(),
            block: self.block,
            scales: cut(&self.scales, blocks, rows, &(first..columns.end.div_ceil(self.block))),
            numbers: cut(&self.numbers, self.inputs, rows, &columns).into(),
        })
    }
}

/// Returns the value of an 8-bit float with four bits of exponent and three of fraction, which has no infinities ("FP8 Formats
/// for Deep Learning", Micikevicius et al., 2022).
pub(crate) fn e4m3(byte: u8) -> f32 {
    let sign = if byte & 0x80 == 0 { 1.0 } else { -1.0 };
    let (exponent, fraction) = (i32::from(byte >> 3 & 15), f32::from(byte & 7));
    match (exponent, byte & 7) {
        (15, 7) => f32::NAN,
        (0, _) => sign * fraction * 2f32.powi(-9),
        _ => sign * (1.0 + fraction / 8.0) * 2f32.powi(exponent - 7),
    }
}
