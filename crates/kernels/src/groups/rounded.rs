//! Rows of activations rounded to 8 bits.

use crate::Isa;
use crate::isa::for_each_isa;

/// Rows rounded to whole numbers from −127 to 127, group by group: the largest of a group becomes 127.
#[derive(Default)]
pub struct RoundedRows {
    rows: usize,
    inputs: usize,
    group: usize,
    groups: usize,
    /// `[rows, groups · group]`; what fills up the last group is zero.
    numbers: Vec<i8>,
    /// `[rows, groups]`.
    scales: Vec<f32>,
    /// The sums of each group's numbers, `[rows, groups]`.
    sums: Vec<i32>,
}

impl RoundedRows {
    /// Rounds rows `x: [rows, inputs]`, in groups of so many inputs.
    ///
    /// # Panics
    /// When `x` is not whole rows.
    pub fn round(&mut self, isa: Isa, x: &[f32], inputs: usize, group: usize) {
        assert!(x.len().is_multiple_of(inputs), "rows of {inputs}");
        let rows = x.len() / inputs;
        (self.rows, self.inputs, self.group, self.groups) = (rows, inputs, group, inputs.div_ceil(group));
        self.numbers.clear();
        self.numbers.resize(rows * self.groups * group, 0);
        self.scales.resize(rows * self.groups, 0.0);
        self.sums.resize(rows * self.groups, 0);
        for row in 0..rows {
            let x = &x[row * inputs..(row + 1) * inputs];
            for (index, x) in x.chunks(group).enumerate() {
                let at = row * self.groups + index;
                let numbers = &mut self.numbers[at * group..at * group + x.len()];
                (self.scales[at], self.sums[at]) = round_group(isa, x, numbers);
            }
        }
    }

    /// Returns how many rows were rounded.
    ///
    /// # Panics
    /// When they were rounded to other groups.
    pub(super) fn rows(&self, inputs: usize, group: usize) -> usize {
        assert!(
            (self.inputs, self.group) == (inputs, group),
            "rows of {} in groups of {} for a matrix of {inputs} in groups of {group}",
            self.inputs,
            self.group
        );
        self.rows
    }

    pub(super) fn groups(&self) -> usize {
        self.groups
    }

    #[inline(always)]
    pub(super) fn numbers(&self, row: usize, group: usize) -> &[i8] {
        let at = (row * self.groups + group) * self.group;
        &self.numbers[at..at + self.group]
    }

    #[inline(always)]
    pub(super) fn scale_and_sum(&self, row: usize, group: usize) -> (f32, i32) {
        let at = row * self.groups + group;
        (self.scales[at], self.sums[at])
    }
}

for_each_isa! {
    /// Rounds a group; returns what a step of its numbers is worth, and their sum.
    fn round_group(x: &[f32], numbers: &mut [i8]) -> (f32, i32) {
        // Adding and taking away 1.5·2²³ rounds to the nearest whole number, the even one of two.
        const ROUND: f32 = 12_582_912.0;
        let most = x.iter().fold(0.0f32, |most, x| most.max(x.abs()));
        if most == 0.0 || !most.is_finite() {
            numbers.fill(0);
            // What is not a number stays none: a group that has infinities gives none either.
            return (if most == 0.0 { 0.0 } else { f32::NAN }, 0);
        }
        let inverse = 127.0 / most;
        let mut sum = 0;
        for (number, x) in numbers.iter_mut().zip(x) {
            let whole = (x * inverse + ROUND) - ROUND;
            *number = whole as i8;
            sum += i32::from(*number);
        }
        (most / 127.0, sum)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_largest_becomes_127_and_each_group_has_its_own_scale() {
        let mut rows = RoundedRows::default();
        rows.round(Isa::detect(), &[1.0, -2.0, 0.5, 254.0, 0.0, 0.0], 6, 2);
        assert_eq!(rows.numbers, [64, -127, 0, 127, 0, 0]);
        assert_eq!(rows.scale_and_sum(0, 0), (2.0 / 127.0, -63));
        assert_eq!(rows.scale_and_sum(0, 2), (0.0, 0));
    }

    #[test]
    fn what_is_no_number_stays_none() {
        let mut rows = RoundedRows::default();
        rows.round(Isa::detect(), &[1.0, f32::INFINITY], 2, 2);
        assert!(rows.scale_and_sum(0, 0).0.is_nan());
    }
}
