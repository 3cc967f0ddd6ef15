//! Sixteen lanes in plain Rust.

use super::{BLOCK, QUAD, ROUND, TileShape, Vector, f8_as_f16};
use crate::LANES;
use half::{bf16, f16};

/// The reference, on every machine.
#[derive(Clone, Copy)]
pub(crate) struct Portable;

impl Vector for Portable {
    type Floats = [f32; LANES];
    type Whole = [i32; LANES];
    type Block = [u8; BLOCK];
    type Quad = [i8; QUAD];

    const MANY_REGISTERS: bool = false;
    const FLOAT_TILE: TileShape = TileShape { rows: 1, panels: 1 };
    const WHOLE_TILE: TileShape = TileShape { rows: 1, panels: 1 };

    #[inline(always)]
    unsafe fn splat(value: f32) -> [f32; LANES] {
        [value; LANES]
    }

    #[inline(always)]
    unsafe fn load(at: *const f32) -> [f32; LANES] {
        // SAFETY: the caller has sixteen values at `at`; an array of floats is read wherever a float may lie.
        unsafe { at.cast::<[f32; LANES]>().read_unaligned() }
    }

    #[inline(always)]
    unsafe fn store(at: *mut f32, values: [f32; LANES]) {
        // SAFETY: the caller has room for sixteen values at `at`.
        unsafe { at.cast::<[f32; LANES]>().write_unaligned(values) }
    }

    #[inline(always)]
    unsafe fn load_bf16(at: *const bf16) -> [f32; LANES] {
        // SAFETY: the caller has sixteen values at `at`.
        unsafe { at.cast::<[bf16; LANES]>().read_unaligned() }.map(bf16::to_f32)
    }

    #[inline(always)]
    unsafe fn load_f16(at: *const f16) -> [f32; LANES] {
        // SAFETY: the caller has sixteen values at `at`.
        unsafe { at.cast::<[f16; LANES]>().read_unaligned() }.map(f16::to_f32)
    }

    #[inline(always)]
    unsafe fn load_f8(at: *const u8) -> [f32; LANES] {
        // SAFETY: the caller has sixteen values at `at`.
        unsafe { at.cast::<[u8; LANES]>().read_unaligned() }.map(|byte| f8_as_f16(byte).to_f32())
    }

    #[inline(always)]
    unsafe fn load_i8(at: *const i8) -> [f32; LANES] {
        // SAFETY: the caller has sixteen values at `at`.
        unsafe { at.cast::<[i8; LANES]>().read_unaligned() }.map(f32::from)
    }

    #[inline(always)]
    unsafe fn mul(a: [f32; LANES], b: [f32; LANES]) -> [f32; LANES] {
        std::array::from_fn(|lane| a[lane] * b[lane])
    }

    #[inline(always)]
    unsafe fn fma(a: [f32; LANES], b: [f32; LANES], c: [f32; LANES]) -> [f32; LANES] {
        std::array::from_fn(|lane| a[lane].mul_add(b[lane], c[lane]))
    }

    #[inline(always)]
    unsafe fn larger_bits(most: [i32; LANES], values: [f32; LANES]) -> [i32; LANES] {
        std::array::from_fn(|lane| most[lane].max(values[lane].abs().to_bits() as i32))
    }

    #[inline(always)]
    unsafe fn largest_lane(values: [i32; LANES]) -> i32 {
        values.into_iter().fold(0, i32::max)
    }

    #[inline(always)]
    unsafe fn store_rounded(at: *mut i8, values: [f32; LANES]) -> [i32; LANES] {
        let whole = values.map(|value| value.to_bits().wrapping_sub(ROUND.to_bits()) as i32);
        // SAFETY: the caller has room for sixteen bytes at `at`.
        unsafe { at.cast::<[i8; LANES]>().write(whole.map(|number| number as i8)) };
        whole
    }

    #[inline(always)]
    unsafe fn add_whole(a: [i32; LANES], b: [i32; LANES]) -> [i32; LANES] {
        std::array::from_fn(|lane| a[lane] + b[lane])
    }

    #[inline(always)]
    unsafe fn sum_lanes(values: [i32; LANES]) -> i32 {
        values.iter().sum()
    }

    #[inline(always)]
    unsafe fn largest_float(values: [f32; LANES]) -> f32 {
        values.into_iter().fold(f32::NEG_INFINITY, f32::max)
    }

    #[inline(always)]
    unsafe fn prefetch<T>(_: *const T) {}

    #[inline(always)]
    unsafe fn splat_whole(value: i32) -> [i32; LANES] {
        [value; LANES]
    }

    #[inline(always)]
    unsafe fn to_floats(values: [i32; LANES]) -> [f32; LANES] {
        values.map(|value| value as f32)
    }

    #[inline(always)]
    unsafe fn block(at: *const u8) -> [u8; BLOCK] {
        // SAFETY: the caller has a block at `at`.
        unsafe { at.cast::<[u8; BLOCK]>().read() }
    }

    #[inline(always)]
    unsafe fn block_pair(at: *const u8, table: &[u8; 16]) -> [[u8; BLOCK]; 2] {
        // SAFETY: the caller has a block at `at`.
        let packed = unsafe { Portable::block(at) };
        [0, 4].map(|shift| packed.map(|codes| table[usize::from(codes >> shift & 15)]))
    }

    #[inline(always)]
    unsafe fn expand_pair(at: *const u8, table: &[u8; 16], to: *mut u8) {
        // SAFETY: the caller has a block at `at` and room for two at `to`.
        unsafe { to.cast::<[[u8; BLOCK]; 2]>().write(Portable::block_pair(at, table)) }
    }

    #[inline(always)]
    unsafe fn quad(at: *const i8) -> [i8; QUAD] {
        // SAFETY: the caller has a quad at `at`.
        unsafe { at.cast::<[i8; QUAD]>().read() }
    }

    #[inline(always)]
    unsafe fn dot(sum: [i32; LANES], block: [u8; BLOCK], quad: [i8; QUAD]) -> [i32; LANES] {
        std::array::from_fn(|lane| {
            let products = (0..QUAD).map(|at| i32::from(block[lane * QUAD + at]) * i32::from(quad[at]));
            sum[lane] + products.sum::<i32>()
        })
    }
}
