//! The largest size among values.

use crate::LANES;

/// Returns the largest size; infinite, or not a number, when one of them is.
#[inline(always)]
pub(crate) fn largest(x: &[f32]) -> f32 {
    // Without their sign, floats are ordered as their bits are, infinity and what is not a number last.
    let bits = |x: &f32| x.to_bits() & (u32::MAX >> 1);
    let mut lanes = [0u32; LANES];
    let (whole, rest) = x.as_chunks::<LANES>();
    for chunk in whole {
        for (lane, x) in lanes.iter_mut().zip(chunk) {
            *lane = bits(x).max(*lane);
        }
    }
    for (lane, x) in lanes.iter_mut().zip(rest) {
        *lane = bits(x).max(*lane);
    }
    let mut half = LANES / 2;
    while half > 0 {
        for lane in 0..half {
            lanes[lane] = lanes[lane].max(lanes[lane + half]);
        }
        half /= 2;
    }
    f32::from_bits(lanes[0])
}
