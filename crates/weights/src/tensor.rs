//! The values of a tensor.

use half::{bf16, f16};
use std::borrow::Cow;

/// The values of a tensor, borrowed from the map where it stores them as they are.
pub enum Tensor<'a> {
    /// 32-bit floats.
    F32(Cow<'a, [f32]>),
    /// Brain floats.
    Bf16(Cow<'a, [bf16]>),
    /// Half-precision floats.
    F16(Cow<'a, [f16]>),
}

impl Tensor<'_> {
    /// Returns the values as `f32`.
    pub fn to_f32(&self) -> Vec<f32> {
        match self {
            Tensor::F32(values) => values.to_vec(),
            Tensor::Bf16(values) => values.iter().map(|value| value.to_f32()).collect(),
            Tensor::F16(values) => values.iter().map(|value| value.to_f32()).collect(),
        }
    }
}
