//! The exponential function and what follows from it, in one form for all instruction sets.

use crate::isa::for_each_isa;
use crate::vector::ROUND;

/// Returns eˣ with a relative error below 3e-7 for x in −87 … 88; less gives a value near zero, more gives the value at 88.
///
/// Plain arithmetic without branches, so that loops over it vectorise: x = n·ln 2 + r with |r| ≤ ln 2 / 2, a polynomial
/// of degree six for eʳ, and 2ⁿ by its bits.
#[inline(always)]
pub fn exp(x: f32) -> f32 {
    const LN2_HIGH: f32 = 0.693_359_4;
    const LN2_LOW: f32 = -2.121_944_4e-4;
    let x = x.clamp(-87.0, 88.0);
    // Adding 1.5·2²³ rounds to the nearest whole number and leaves it in the lowest bits, from where it goes to the exponent.
    let rounded = x.mul_add(std::f32::consts::LOG2_E, ROUND);
    let n = rounded - ROUND;
    let r = n.mul_add(-LN2_LOW, n.mul_add(-LN2_HIGH, x));
    let mut p = 1.388_888_9e-3f32;
    p = p.mul_add(r, 8.333_334e-3);
    p = p.mul_add(r, 4.166_666_7e-2);
    p = p.mul_add(r, 1.666_666_7e-1);
    p = p.mul_add(r, 0.5);
    p = p.mul_add(r, 1.0);
    p = p.mul_add(r, 1.0);
    p * f32::from_bits((rounded.to_bits() << 23).wrapping_add(127 << 23))
}

/// Returns tanh x with an absolute error below 3e-7.
#[inline(always)]
pub fn tanh(x: f32) -> f32 {
    1.0 - 2.0 / (exp(2.0 * x) + 1.0)
}

for_each_isa! {
    /// Makes each x of `values` cap · tanh(x / cap).
    pub fn soft_cap(cap: f32, values: &mut [f32]) {
        values.iter_mut().for_each(|x| *x = cap * tanh(*x / cap));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stays_close_to_the_true_value_over_its_range() {
        let mut worst = 0.0f64;
        for step in -87_000..=88_000 {
            let x = step as f32 / 1000.0;
            let wanted = (x as f64).exp();
            worst = worst.max(((exp(x) as f64 - wanted) / wanted).abs());
        }
        assert!(worst < 3e-7, "relative error {worst}");
        assert!(exp(f32::NEG_INFINITY) < 1e-37 && exp(f32::INFINITY).is_finite());
        assert_eq!(exp(0.0), 1.0);
    }

    #[test]
    fn tanh_stays_close_to_the_true_value() {
        for step in -60_000..=60_000 {
            let x = step as f32 / 1000.0;
            assert!((tanh(x) as f64 - (x as f64).tanh()).abs() < 3e-7, "at {x}");
        }
    }
}
