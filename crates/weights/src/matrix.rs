//! A matrix, as it is stored, and parts of it.

use crate::cut::cut;
use crate::float8::Float8Weights;
use crate::groups::GroupWeights;
use crate::tensor::Tensor;
use std::borrow::Cow;
use std::ops::Range;

/// A matrix, as it is stored.
pub enum Matrix<'a> {
    /// Floats.
    Floats(Tensor<'a>),
    /// 8-bit floats with scales.
    F8(Float8Weights<'a>),
    /// Small numbers with scales.
    Groups(GroupWeights),
}

impl Matrix<'_> {
    /// Returns the values as `f32`.
    pub fn to_f32(&self) -> Vec<f32> {
        match self {
            Matrix::Floats(tensor) => tensor.to_f32(),
            Matrix::F8(weights) => weights.values(),
            Matrix::Groups(groups) => groups.values(),
        }
    }

    /// Returns some outputs, and of these some inputs, of a matrix with `inputs` of them; nothing is lost.
    ///
    /// # Panics
    /// When a range reaches beyond the matrix.
    pub fn part(&self, inputs: usize, outputs: &[Range<usize>], columns: Range<usize>) -> Matrix<'static> {
        match self {
            Matrix::Floats(Tensor::F32(values)) => {
                Matrix::Floats(Tensor::F32(Cow::Owned(cut(values, inputs, outputs, &columns))))
            }
            Matrix::Floats(Tensor::Bf16(values)) => {
                Matrix::Floats(Tensor::Bf16(Cow::Owned(cut(values, inputs, outputs, &columns))))
            }
            Matrix::Floats(Tensor::F16(values)) => {
                Matrix::Floats(Tensor::F16(Cow::Owned(cut(values, inputs, outputs, &columns))))
            }
            Matrix::F8(weights) => match weights.part(outputs, columns.clone()) {
                Some(part) => Matrix::F8(part),
                None => self.part_of_values(inputs, outputs, &columns),
            },
            Matrix::Groups(groups) => match groups.part(outputs, columns.clone()) {
                Some(part) => Matrix::Groups(part),
                None => self.part_of_values(inputs, outputs, &columns),
            },
        }
    }

    fn part_of_values(&self, inputs: usize, outputs: &[Range<usize>], columns: &Range<usize>) -> Matrix<'static> {
        Matrix::Floats(Tensor::F32(Cow::Owned(cut(&self.to_f32(), inputs, outputs, columns))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use vastrelay_kernels::groups::Bits;

    proptest! {
        #[test]
        fn parts_have_the_values_of_the_whole(
            outputs in 1usize..9, inputs in 1usize..100, group in prop::sample::select(vec![16usize, 24, 32]),
            ends in any::<[prop::sample::Index; 4]>(), eight: bool, block in 1usize..120,
        ) {
            let values: Vec<f32> = (0..outputs * inputs).map(|at| (at * 7919 % 101) as f32 - 50.0).collect();
            let bits = if eight { Bits::Eight } else { Bits::Four };
            let [a, b, c, d] = [ends[0].index(outputs), ends[1].index(outputs), ends[2].index(inputs), ends[3].index(inputs)];
            let (rows, columns) = ([a.min(b)..a.max(b), b..b + 1], c.min(d)..c.max(d) + 1);
            let rounded = GroupWeights::round(&values, inputs, bits, group);
            let half: Vec<half::f16> = values.iter().map(|value| half::f16::from_f32(*value)).collect();
            let numbers: Vec<u8> = (0..outputs * inputs).map(|at| (at * 31 % 127) as u8).collect();
            let scales: Vec<f32> = (0..outputs * inputs.div_ceil(block)).map(|at| at as f32 * 0.1 - 1.0).collect();
            let floats8 = Float8Weights::of_blocks(numbers.into(), inputs, &scales, [1, block]).unwrap();
            for matrix in [
                Matrix::Floats(Tensor::F32(values.into())),
                Matrix::Floats(Tensor::F16(half.into())),
                Matrix::F8(floats8),
                Matrix::Groups(rounded),
            ] {
                let wanted = cut(&matrix.to_f32(), inputs, &rows, &columns);
                prop_assert_eq!(matrix.part(inputs, &rows, columns.clone()).to_f32(), wanted);
            }
        }
    }

    #[test]
    fn groups_that_are_cut_apart_become_smaller_ones_as_long_as_kernels_take_them() {
        let groups = GroupWeights::round(&[1.0; 64], 64, Bits::Four, 32);
        let group = |columns: Range<usize>| {
            groups
                .part(std::slice::from_ref(&(0..1)), columns)
                .map(|part| part.group)
        };
        assert_eq!(
            [group(0..40), group(32..64), group(40..64)],
            [Some(32), Some(32), Some(8)]
        );
        assert_eq!(group(36..64), None);
    }
}
