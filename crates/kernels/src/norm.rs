//! Root-mean-square norm.

use crate::isa::for_each_isa;
use crate::thread_pool::ThreadPool;
use crate::{Isa, LANES};

/// Scales each row of `x: [rows, width]` to a root mean square of one, then by `weight`, into `out`.
///
/// From "Root Mean Square Layer Normalization", Zhang and Sennrich, 2019. `epsilon` keeps a row of zeros finite.
///
/// # Panics
/// When `x` and `out` are not whole rows of the width of `weight`.
pub fn rms_norm(isa: Isa, threads: &ThreadPool, x: &[f32], weight: &[f32], epsilon: f32, out: &mut [f32]) {
    let width = weight.len();
    assert!(x.len() == out.len(), "rows of a norm");
    threads.rows(out, width, &|row, out| {
        rms_norm_rows(isa, &x[row * width..][..out.len()], weight, epsilon, out)
    });
}

for_each_isa! {
    /// As [`rms_norm`], on this thread.
    pub fn rms_norm_rows(x: &[f32], weight: &[f32], epsilon: f32, out: &mut [f32]) {
        let width = weight.len();
        for (x, out) in x.chunks_exact(width).zip(out.chunks_exact_mut(width)) {
            let scale = scale_of(x, epsilon);
            for ((out, x), weight) in out.iter_mut().zip(x).zip(weight) {
                *out = x * scale * weight;
            }
        }
    }
}

for_each_isa! {
    /// As [`rms_norm`], on this thread, into `x` itself.
    ///
    /// # Panics
    /// When `x` is not whole rows of the width of `weight`.
    pub fn rms_norm_in_place(x: &mut [f32], weight: &[f32], epsilon: f32) {
        assert!(x.len().is_multiple_of(weight.len()), "rows of a norm");
        for x in x.chunks_exact_mut(weight.len()) {
            let scale = scale_of(x, epsilon);
            for (x, weight) in x.iter_mut().zip(weight) {
                *x = *x * scale * weight;
            }
        }
    }
}

/// Returns what makes the root mean square one.
#[inline(always)]
fn scale_of(x: &[f32], epsilon: f32) -> f32 {
    1.0 / (sum_of_squares(x) / x.len() as f32 + epsilon).sqrt()
}

/// Sums in sixteen lanes, then the lanes in order.
#[inline(always)]
fn sum_of_squares(x: &[f32]) -> f32 {
    let mut lanes = [0.0f32; LANES];
    let (whole, rest) = x.as_chunks::<LANES>();
    for chunk in whole {
        for (lane, x) in lanes.iter_mut().zip(chunk) {
            *lane = x.mul_add(*x, *lane);
        }
    }
    for (lane, x) in lanes.iter_mut().zip(rest) {
        *lane = x.mul_add(*x, *lane);
    }
    lanes.iter().sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn matches_the_formula_for_whole_and_ragged_widths() {
        for width in [1, 15, 16, 17, 192, 200] {
            let x: Vec<f32> = (0..2 * width).map(|i| (i as f32 * 0.37).sin() * 3.0).collect();
            let weight: Vec<f32> = (0..width).map(|i| 1.0 + i as f32 / 100.0).collect();
            let mut scalar = vec![0.0; 2 * width];
            rms_norm(Isa::PORTABLE, &ThreadPool::new(1), &x, &weight, 1e-5, &mut scalar);
            for (row, x) in x.chunks(width).enumerate() {
                let mean = x.iter().map(|x| (*x as f64).powi(2)).sum::<f64>() / width as f64;
                for i in 0..width {
                    let wanted = x[i] as f64 / (mean + 1e-5).sqrt() * weight[i] as f64;
                    assert!((scalar[row * width + i] as f64 - wanted).abs() < 1e-5);
                }
            }
            for isa in Isa::available() {
                let mut out = vec![0.0; 2 * width];
                rms_norm(isa, &ThreadPool::new(2), &x, &weight, 1e-5, &mut out);
                assert_eq!(out, scalar, "{isa:?} width {width}");
                let mut out = x.clone();
                rms_norm_in_place(isa, &mut out, &weight, 1e-5);
                assert_eq!(out, scalar, "{isa:?} width {width}");
            }
        }
    }
}
