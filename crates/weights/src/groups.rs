//! Weights as small whole numbers that share scales in groups: taken from a checkpoint as they are, or rounded to.

use crate::cut::cut;
use crate::kind::gcd;
use std::ops::Range;
use vastrelay_kernels::groups::{Bits, GroupMatrix, Groups};

/// A matrix whose weights are scale · (number − offset), or scale · number + minimum where there are minima.
#[derive(Clone, Debug, PartialEq)]
pub struct GroupWeights {
    /// Weights of a row.
    pub inputs: usize,
    /// Bits of a number.
    pub bits: Bits,
    /// Weights of a row that share a scale.
    pub group: usize,
    /// `[outputs, inputs]`, one to a byte.
    pub numbers: Vec<u8>,
    /// `[outputs, groups]`.
    pub scales: Vec<f32>,
    /// `[outputs, groups]`.
    pub minima: Option<Vec<f32>>,
}

impl GroupWeights {
    /// Adds a group; the minimum counts only where there are minima.
    pub(crate) fn push(&mut self, scale: f32, minimum: f32, numbers: impl Iterator<Item = u8>) {
        self.scales.push(scale);
        if let Some(minima) = &mut self.minima {
            minima.push(minimum);
        }
        self.numbers.extend(numbers);
    }

    /// Rounds rows of weights to the nearest numbers: of 8 bits with a scale that makes the largest 127, of 4 bits with a scale
    /// and a minimum that span the group.
    ///
    /// # Panics
    /// When `values` is not whole rows of `inputs`.
    pub fn round(values: &[f32], inputs: usize, bits: Bits, group: usize) -> GroupWeights {
        assert!(values.len().is_multiple_of(inputs), "rows of {inputs}");
        let mut rounded = GroupWeights::empty(inputs, bits, group);
        for row in values.chunks_exact(inputs) {
            for values in row.chunks(group) {
                let (scale, minimum) = range(values, bits);
                let number = |value: &f32| nearest(*value, scale, minimum, bits);
                rounded.push(scale, minimum, values.iter().map(number));
            }
        }
        rounded
    }

    /// Adds the rows of another one of the same kind.
    pub(crate) fn append(&mut self, other: GroupWeights) {
        self.numbers.extend(other.numbers);
        self.scales.extend(other.scales);
        if let (Some(minima), Some(others)) = (&mut self.minima, other.minima) {
            minima.extend(others);
        }
    }

    /// Returns a matrix without rows, with minima where 4 bits are rounded to.
    pub(crate) fn empty(inputs: usize, bits: Bits, group: usize) -> GroupWeights {
        GroupWeights {
            inputs,
            bits,
            group,
            numbers: Vec::new(),
            scales: Vec::new(),
            minima: (bits == Bits::Four).then(Vec::new),
        }
    }

    /// Returns some rows, and of these some columns. Groups that this cuts apart become smaller ones with the same scales; nothing
    /// is returned where they would be of no whole multiple of eight, which kernels want.
    pub(crate) fn part(&self, rows: &[Range<usize>], columns: Range<usize>) -> Option<GroupWeights> {
        let group = gcd(self.group, columns.start);
        if !group.is_multiple_of(8) {
            return None;
        }
        let groups = self.inputs.div_ceil(self.group);
        let of_groups = |values: &[f32]| {
            let rows = rows.iter().cloned().flatten();
            rows.flat_map(|row| {
                let starts = columns.clone().step_by(group);
                starts.map(move |start| values[row * groups + start / self.group])
            })
            .collect()
        };
        Some(GroupWeights {
            inputs: columns.len(),
            bits: self.bits,
            group,
            numbers: cut(&self.numbers, self.inputs, rows, &columns),
            scales: of_groups(&self.scales),
            minima: self.minima.as_deref().map(of_groups),
        })
    }

    /// Returns what was packed into a matrix.
    pub fn of_packed(packed: &GroupMatrix) -> GroupWeights {
        let (numbers, scales, minima) = packed.unpack();
        GroupWeights {
            inputs: packed.inputs(),
            bits: packed.bits(),
            group: packed.group(),
            numbers,
            scales,
            minima,
        }
    }

    /// Returns the weights.
    pub fn values(&self) -> Vec<f32> {
        let groups = self.inputs.div_ceil(self.group);
        let offset = f32::from(self.bits.offset());
        let mut values = Vec::with_capacity(self.numbers.len());
        for (row, numbers) in self.numbers.chunks_exact(self.inputs).enumerate() {
            for (index, numbers) in numbers.chunks(self.group).enumerate() {
                let at = row * groups + index;
                let scale = self.scales[at];
                match &self.minima {
                    Some(minima) => values.extend(numbers.iter().map(|n| scale * f32::from(*n) + minima[at])),
                    None => values.extend(numbers.iter().map(|n| scale * (f32::from(*n) - offset))),
                }
            }
        }
        values
    }

    /// Returns whether it can stand beside another in one matrix.
    pub fn is_like(&self, other: &GroupWeights) -> bool {
        (self.inputs, self.bits, self.group) == (other.inputs, other.bits, other.group)
            && self.minima.is_some() == other.minima.is_some()
    }

    /// Returns its parts for packing.
    pub fn parts(&self) -> Groups<'_> {
        Groups {
            numbers: &self.numbers,
            scales: &self.scales,
            minima: self.minima.as_deref(),
        }
    }
}

/// Returns the scale and the minimum of a group that is to be rounded; both are zero or more than nothing in half precision.
pub(crate) fn range(values: &[f32], bits: Bits) -> (f32, f32) {
    let (low, high) = values.iter().fold((0.0f32, 0.0f32), |(low, high), value| {
        (low.min(*value), high.max(*value))
    });
    match bits {
        Bits::Eight => (high.max(-low) / 127.0, 0.0),
        Bits::Four => ((high - low) / 15.0, low),
    }
}

/// Returns the number that is nearest to a value.
pub(crate) fn nearest(value: f32, scale: f32, minimum: f32, bits: Bits) -> u8 {
    if scale == 0.0 {
        return match bits {
            Bits::Eight => bits.offset(),
            Bits::Four => 0,
        };
    }
    match bits {
        Bits::Eight => ((value / scale).round() + 128.0).clamp(1.0, 255.0) as u8,
        Bits::Four => ((value - minimum) / scale).round().clamp(0.0, 15.0) as u8,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn rounding_moves_a_weight_by_half_a_step_at_most(
            values in prop::collection::vec(-3.0f32..3.0, 1..300), inputs in 1usize..100, eight: bool,
            group in prop::sample::select(vec![16usize, 32, 64, 128]),
        ) {
            let values = &values[..values.len() / inputs * inputs];
            let bits = if eight { Bits::Eight } else { Bits::Four };
            let rounded = GroupWeights::round(values, inputs, bits, group);
            let groups = inputs.div_ceil(group);
            for (at, (value, near)) in values.iter().zip(rounded.values()).enumerate() {
                let scale = rounded.scales[at / inputs * groups + at % inputs / group];
                prop_assert!((value - near).abs() <= scale * 0.501 + 1e-6, "{} {}", value, near);
            }
            // What was rounded once stays.
            let again = GroupWeights::round(&rounded.values(), inputs, bits, group);
            prop_assert!(rounded.values().iter().zip(again.values()).all(|(a, b)| (a - b).abs() < 1e-5));
        }
    }
}
