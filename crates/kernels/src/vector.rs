//! What an instruction set supplies to the kernels: loads, widening, multiply-adds and dot products of sixteen lanes.
//!
//! The kernels themselves are written once, over [`Vector`]. [`Portable`] is plain Rust and the reference; the others give
//! the same bits.

mod portable;
#[cfg(target_arch = "x86_64")]
mod x86;

pub(crate) use portable::Portable;
#[cfg(target_arch = "x86_64")]
pub(crate) use x86::{Avx2, Avx512, Avx512Vnni};

use crate::LANES;
use half::{bf16, f16};

/// Inputs whose products one step of an integer dot product sums up.
pub(crate) const QUAD: usize = 4;
/// Bytes of a quad of inputs for sixteen outputs.
pub(crate) const BLOCK: usize = LANES * QUAD;

/// Added to a float of up to 2²² in size, it rounds to the nearest whole number, the even one of two, which is then in the lowest
/// bits.
pub(crate) const ROUND: f32 = 12_582_912.0;

/// What becomes of an 8-bit float when its bits are shifted into the place of a half-precision float's, whose exponents are
/// counted from a number greater by eight.
pub(crate) const F8_SHRINK: f32 = 1.0 / 256.0;

/// Returns the bits of an 8-bit float in the place of a half-precision float's.
pub(crate) fn f8_as_f16(byte: u8) -> f16 {
    f16::from_bits(u16::from(byte & 0x80) << 8 | u16::from(byte & 0x7f) << 7)
}

/// Most rows and panels in a tile. One row may have more panels.
#[derive(Clone, Copy)]
pub(crate) struct TileShape {
    pub rows: usize,
    pub panels: usize,
}

/// Sixteen lanes at once.
///
/// # Safety
/// Every method may be called only where the set's instructions exist: in functions that [`crate::isa::for_each_isa`] made.
/// Pointers have to be good for as many values as the method says; they need not be aligned.
pub(crate) trait Vector: Copy + 'static {
    /// Sixteen 32-bit floats.
    type Floats: Copy;
    /// Sixteen 32-bit whole numbers.
    type Whole: Copy;
    /// A quad of unsigned bytes for each lane, as [`Vector::dot`] takes it.
    type Block: Copy;
    /// A quad of signed bytes, the same for each lane, as [`Vector::dot`] takes it.
    type Quad: Copy;

    /// Whether there are registers for sixteen sums.
    const MANY_REGISTERS: bool;
    /// The largest tile of floats whose sums stay in registers.
    const FLOAT_TILE: TileShape;
    /// The same of whole numbers.
    const WHOLE_TILE: TileShape;

    /// Returns one value in every lane.
    unsafe fn splat(value: f32) -> Self::Floats;
    /// Reads sixteen values.
    unsafe fn load(at: *const f32) -> Self::Floats;
    /// Writes sixteen values.
    unsafe fn store(at: *mut f32, values: Self::Floats);
    /// Reads and widens sixteen brain floats.
    unsafe fn load_bf16(at: *const bf16) -> Self::Floats;
    /// Reads and widens sixteen half-precision floats.
    unsafe fn load_f16(at: *const f16) -> Self::Floats;
    /// Reads and widens sixteen 8-bit floats with four bits of exponent, none of them NaN; returns them times [`F8_SHRINK`].
    unsafe fn load_f8(at: *const u8) -> Self::Floats;
    /// Reads and widens sixteen bytes.
    unsafe fn load_i8(at: *const i8) -> Self::Floats;
    /// Returns a · b.
    unsafe fn mul(a: Self::Floats, b: Self::Floats) -> Self::Floats;
    /// Returns a · b + c, rounded once.
    unsafe fn fma(a: Self::Floats, b: Self::Floats, c: Self::Floats) -> Self::Floats;

    /// Returns, in each lane, the larger of the bits of `most` and those of a value without its sign.
    unsafe fn larger_bits(most: Self::Whole, values: Self::Floats) -> Self::Whole;
    /// Returns the largest lane, none of which is negative.
    unsafe fn largest_lane(values: Self::Whole) -> i32;
    /// Writes sixteen bytes: the whole numbers in floats to which [`ROUND`] was added; returns these.
    unsafe fn store_rounded(at: *mut i8, values: Self::Floats) -> Self::Whole;
    /// Returns a + b.
    unsafe fn add_whole(a: Self::Whole, b: Self::Whole) -> Self::Whole;
    /// Returns the sum of the lanes.
    unsafe fn sum_lanes(values: Self::Whole) -> i32;

    /// Returns the largest lane; where one is not a number, any.
    unsafe fn largest_float(values: Self::Floats) -> f32;
    /// Asks for the line of the cache at an address, which need not be good for anything.
    unsafe fn prefetch<T>(at: *const T);

    /// Returns one number in every lane.
    unsafe fn splat_whole(value: i32) -> Self::Whole;
    /// Returns the nearest floats.
    unsafe fn to_floats(values: Self::Whole) -> Self::Floats;
    /// Reads [`BLOCK`] bytes.
    unsafe fn block(at: *const u8) -> Self::Block;
    /// Reads [`BLOCK`] bytes of two quads of 4-bit codes, the first in the lower halves, and looks them up in a table of what
    /// they stand for.
    unsafe fn block_pair(at: *const u8, table: &[u8; 16]) -> [Self::Block; 2];
    /// As [`Vector::block_pair`], written as 2 · [`BLOCK`] bytes.
    unsafe fn expand_pair(at: *const u8, table: &[u8; 16], to: *mut u8);
    /// Reads [`QUAD`] bytes.
    unsafe fn quad(at: *const i8) -> Self::Quad;
    /// Adds, in each lane, four products to a sum; exact as long as the sum fits.
    unsafe fn dot(sum: Self::Whole, block: Self::Block, quad: Self::Quad) -> Self::Whole;
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::isa::{Isa, for_each_isa};
    use proptest::prelude::*;

    for_each_isa! {
        fn dot_of<V>(weights: &[u8; BLOCK], quad: &[i8; QUAD], times: usize) -> [f32; LANES] {
            let mut out = [0.0; LANES];
            // SAFETY: the arrays are as long as the vectors read and write.
            unsafe {
                let mut sum = V::splat_whole(0);
                for _ in 0..times {
                    sum = V::dot(sum, V::block(weights.as_ptr()), V::quad(quad.as_ptr()));
                }
                V::store(out.as_mut_ptr(), V::to_floats(sum));
            }
            out
        }
    }

    for_each_isa! {
        fn codes_of<V>(packed: &[u8; BLOCK], table: &[u8; 16]) -> [u8; 2 * BLOCK] {
            let mut out = [0; 2 * BLOCK];
            // SAFETY: as above.
            unsafe { V::expand_pair(packed.as_ptr(), table, out.as_mut_ptr()) };
            out
        }
    }

    for_each_isa! {
        fn pair_dot<V>(packed: &[u8; BLOCK], table: &[u8; 16], quad: &[i8; QUAD]) -> [f32; 2 * LANES] {
            let mut out = [0.0; 2 * LANES];
            // SAFETY: as above.
            unsafe {
                let pair = V::block_pair(packed.as_ptr(), table);
                for (index, block) in pair.into_iter().enumerate() {
                    let sum = V::dot(V::splat_whole(7), block, V::quad(quad.as_ptr()));
                    V::store(out.as_mut_ptr().add(index * LANES), V::to_floats(sum));
                }
            }
            out
        }
    }

    for_each_isa! {
        fn widened<V>(brain: &[bf16; LANES], half: &[f16; LANES], bytes: &[i8; LANES]) -> [f32; 4 * LANES] {
            let mut out = [0.0; 4 * LANES];
            // SAFETY: as above.
            unsafe {
                V::store(out.as_mut_ptr(), V::load_bf16(brain.as_ptr()));
                V::store(out.as_mut_ptr().add(LANES), V::load_i8(bytes.as_ptr()));
                V::store(out.as_mut_ptr().add(2 * LANES), V::load_f16(half.as_ptr()));
                V::store(out.as_mut_ptr().add(3 * LANES), V::load_f8(bytes.as_ptr().cast()));
            }
            out
        }
    }

    for_each_isa! {
        fn rounded<V>(values: &[f32; LANES]) -> ([i8; LANES], i32, i32) {
            let mut out = [0; LANES];
            // SAFETY: as above.
            unsafe {
                let values = V::load(values.as_ptr());
                let most = V::largest_lane(V::larger_bits(V::splat_whole(5), values));
                let whole = V::store_rounded(out.as_mut_ptr(), V::fma(values, V::splat(127.0), V::splat(ROUND)));
                (out, V::sum_lanes(V::add_whole(whole, whole)), most)
            }
        }
    }

    #[test]
    fn products_of_the_largest_bytes_do_not_saturate() {
        for isa in Isa::available() {
            for x in [127, -127] {
                let sums = dot_of(isa, &[255; BLOCK], &[x; QUAD], 64);
                assert_eq!(sums, [f32::from(x) * 255.0 * 4.0 * 64.0; LANES], "{isa:?}");
            }
        }
    }

    proptest! {
        #[test]
        fn every_set_gives_the_bits_of_the_reference(
            weights in prop::array::uniform32(any::<[u8; 2]>()), quad in any::<[i8; 4]>(), table in any::<[u8; 16]>(),
            bits in prop::array::uniform16(any::<u16>()),
        ) {
            let weights: [u8; BLOCK] = weights.concat().try_into().unwrap();
            let quad = quad.map(|x| x.max(-127));
            let brain = bits.map(|bits| bf16::from_bits(if bf16::from_bits(bits).is_finite() { bits } else { 0 }));
            let half = bits.map(|bits| f16::from_bits(if f16::from_bits(bits).is_finite() { bits } else { 0 }));
            let bytes = bits.map(|bits| bits as i8);
            for isa in Isa::available() {
                prop_assert_eq!(dot_of(isa, &weights, &quad, 3), dot_of(Isa::PORTABLE, &weights, &quad, 3), "{:?}", isa);
                let unit = bits.map(|bits| f32::from(bits as i16) / 32_768.0);
                prop_assert_eq!(rounded(isa, &unit), rounded(Isa::PORTABLE, &unit), "{:?}", isa);
                prop_assert_eq!(codes_of(isa, &weights, &table), codes_of(Isa::PORTABLE, &weights, &table), "{:?}", isa);
                let pairs = pair_dot(Isa::PORTABLE, &weights, &table, &quad);
                prop_assert_eq!(pair_dot(isa, &weights, &table, &quad), pairs, "{:?}", isa);
                let wide = widened(Isa::PORTABLE, &brain, &half, &bytes);
                prop_assert_eq!(widened(isa, &brain, &half, &bytes), wide, "{:?}", isa);
            }
        }
    }
}
