//! Sixteen lanes in the registers of x86-64.
//!
//! Without an instruction for products of bytes, a quad is split into its even and its odd bytes, widened to 16 bits: the
//! multiply-add of bytes saturates, that of 16 bits does not.

use super::{BLOCK, ROUND, TileShape, Vector};
use half::{bf16, f16};
use std::arch::x86_64::*;

/// Two registers of eight lanes.
#[derive(Clone, Copy)]
pub(crate) struct Avx2;

/// One register, without dot products of bytes.
#[derive(Clone, Copy)]
pub(crate) struct Avx512;

/// One register, with them.
#[derive(Clone, Copy)]
pub(crate) struct Avx512Vnni;

// SAFETY of all blocks below: the caller runs where the set's instructions exist and has as many values at a pointer as the
// trait's method says.

impl Vector for Avx2 {
    type Floats = [__m256; 2];
    type Whole = [__m256i; 2];
    /// For each half of the lanes, the even and the odd bytes.
    type Block = [[__m256i; 2]; 2];
    type Quad = [__m256i; 2];

    const MANY_REGISTERS: bool = false;
    const FLOAT_TILE: TileShape = TileShape { rows: 4, panels: 1 };
    const WHOLE_TILE: TileShape = TileShape { rows: 2, panels: 1 };

    #[inline(always)]
    unsafe fn splat(value: f32) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_set1_ps(value); 2] }
    }

    #[inline(always)]
    unsafe fn load(at: *const f32) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_loadu_ps(at), _mm256_loadu_ps(at.add(8))] }
    }

    #[inline(always)]
    unsafe fn store(at: *mut f32, values: [__m256; 2]) {
        // SAFETY: see above.
        unsafe {
            _mm256_storeu_ps(at, values[0]);
            _mm256_storeu_ps(at.add(8), values[1]);
        }
    }

    #[inline(always)]
    unsafe fn load_bf16(at: *const bf16) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [widen_bf16(at), widen_bf16(at.add(8))] }
    }

    #[inline(always)]
    unsafe fn load_f16(at: *const f16) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe {
            [
                _mm256_cvtph_ps(_mm_loadu_si128(at.cast())),
                _mm256_cvtph_ps(_mm_loadu_si128(at.add(8).cast())),
            ]
        }
    }

    #[inline(always)]
    unsafe fn load_f8(at: *const u8) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe {
            let half = f8_to_f16(at);
            [
                _mm256_cvtph_ps(_mm256_castsi256_si128(half)),
                _mm256_cvtph_ps(_mm256_extracti128_si256::<1>(half)),
            ]
        }
    }

    #[inline(always)]
    unsafe fn load_i8(at: *const i8) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe {
            [
                _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(_mm_loadl_epi64(at.cast()))),
                _mm256_cvtepi32_ps(_mm256_cvtepi8_epi32(_mm_loadl_epi64(at.add(8).cast()))),
            ]
        }
    }

    #[inline(always)]
    unsafe fn mul(a: [__m256; 2], b: [__m256; 2]) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_mul_ps(a[0], b[0]), _mm256_mul_ps(a[1], b[1])] }
    }

    #[inline(always)]
    unsafe fn fma(a: [__m256; 2], b: [__m256; 2], c: [__m256; 2]) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_fmadd_ps(a[0], b[0], c[0]), _mm256_fmadd_ps(a[1], b[1], c[1])] }
    }

    #[inline(always)]
    unsafe fn larger_bits(most: [__m256i; 2], values: [__m256; 2]) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe {
            let sign = _mm256_set1_epi32(i32::MAX);
            [
                _mm256_max_epi32(most[0], _mm256_and_si256(_mm256_castps_si256(values[0]), sign)),
                _mm256_max_epi32(most[1], _mm256_and_si256(_mm256_castps_si256(values[1]), sign)),
            ]
        }
    }

    #[inline(always)]
    unsafe fn largest_lane(values: [__m256i; 2]) -> i32 {
        // SAFETY: see above.
        unsafe {
            let eight = _mm256_max_epi32(values[0], values[1]);
            let four = _mm_max_epi32(_mm256_castsi256_si128(eight), _mm256_extracti128_si256::<1>(eight));
            let two = _mm_max_epi32(four, _mm_shuffle_epi32::<0b01_00_11_10>(four));
            _mm_cvtsi128_si32(_mm_max_epi32(two, _mm_shuffle_epi32::<0b10_11_00_01>(two)))
        }
    }

    #[inline(always)]
    unsafe fn store_rounded(at: *mut i8, values: [__m256; 2]) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe {
            let round = _mm256_set1_epi32(ROUND.to_bits() as i32);
            let low = _mm256_sub_epi32(_mm256_castps_si256(values[0]), round);
            let high = _mm256_sub_epi32(_mm256_castps_si256(values[1]), round);
            // Packing takes from both halves in turn.
            let words = _mm256_permute4x64_epi64::<0b11_01_10_00>(_mm256_packs_epi32(low, high));
            let bytes = _mm_packs_epi16(_mm256_castsi256_si128(words), _mm256_extracti128_si256::<1>(words));
            _mm_storeu_si128(at.cast(), bytes);
            [low, high]
        }
    }

    #[inline(always)]
    unsafe fn add_whole(a: [__m256i; 2], b: [__m256i; 2]) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_add_epi32(a[0], b[0]), _mm256_add_epi32(a[1], b[1])] }
    }

    #[inline(always)]
    unsafe fn sum_lanes(values: [__m256i; 2]) -> i32 {
        // SAFETY: see above.
        unsafe {
            let eight = _mm256_add_epi32(values[0], values[1]);
            let four = _mm_add_epi32(_mm256_castsi256_si128(eight), _mm256_extracti128_si256::<1>(eight));
            let two = _mm_add_epi32(four, _mm_shuffle_epi32::<0b01_00_11_10>(four));
            _mm_cvtsi128_si32(_mm_add_epi32(two, _mm_shuffle_epi32::<0b10_11_00_01>(two)))
        }
    }

    #[inline(always)]
    unsafe fn largest_float(values: [__m256; 2]) -> f32 {
        // SAFETY: see above.
        unsafe {
            let eight = _mm256_max_ps(values[0], values[1]);
            let four = _mm_max_ps(_mm256_castps256_ps128(eight), _mm256_extractf128_ps::<1>(eight));
            let two = _mm_max_ps(four, _mm_movehl_ps(four, four));
            _mm_cvtss_f32(_mm_max_ss(two, _mm_shuffle_ps::<1>(two, two)))
        }
    }

    #[inline(always)]
    unsafe fn prefetch<T>(at: *const T) {
        // SAFETY: see above.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(at.cast()) }
    }

    #[inline(always)]
    unsafe fn splat_whole(value: i32) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_set1_epi32(value); 2] }
    }

    #[inline(always)]
    unsafe fn to_floats(values: [__m256i; 2]) -> [__m256; 2] {
        // SAFETY: see above.
        unsafe { [_mm256_cvtepi32_ps(values[0]), _mm256_cvtepi32_ps(values[1])] }
    }

    #[inline(always)]
    unsafe fn block(at: *const u8) -> [[__m256i; 2]; 2] {
        // SAFETY: see above.
        unsafe {
            [
                split256(_mm256_loadu_si256(at.cast())),
                split256(_mm256_loadu_si256(at.add(32).cast())),
            ]
        }
    }

    #[inline(always)]
    unsafe fn block_pair(at: *const u8, table: &[u8; 16]) -> [[[__m256i; 2]; 2]; 2] {
        // SAFETY: see above.
        unsafe {
            let halves = [look_up256(at, table), look_up256(at.add(32), table)];
            [
                [split256(halves[0][0]), split256(halves[1][0])],
                [split256(halves[0][1]), split256(halves[1][1])],
            ]
        }
    }

    #[inline(always)]
    unsafe fn expand_pair(at: *const u8, table: &[u8; 16], to: *mut u8) {
        // SAFETY: see above.
        unsafe {
            for half in [0, 32] {
                let [first, second] = look_up256(at.add(half), table);
                _mm256_storeu_si256(to.add(half).cast(), first);
                _mm256_storeu_si256(to.add(BLOCK + half).cast(), second);
            }
        }
    }

    #[inline(always)]
    unsafe fn quad(at: *const i8) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe {
            let all = _mm256_set1_epi32(at.cast::<i32>().read_unaligned());
            let even = _mm256_srai_epi16::<8>(_mm256_slli_epi16::<8>(all));
            [even, _mm256_srai_epi16::<8>(all)]
        }
    }

    #[inline(always)]
    unsafe fn dot(sum: [__m256i; 2], block: [[__m256i; 2]; 2], quad: [__m256i; 2]) -> [__m256i; 2] {
        // SAFETY: see above.
        unsafe { [dot256(sum[0], block[0], quad), dot256(sum[1], block[1], quad)] }
    }
}

/// Reads and widens eight brain floats.
#[inline(always)]
unsafe fn widen_bf16(at: *const bf16) -> __m256 {
    // SAFETY: see above; a bf16 is the upper half of an f32.
    unsafe {
        let bits = _mm256_cvtepu16_epi32(_mm_loadu_si128(at.cast()));
        _mm256_castsi256_ps(_mm256_slli_epi32::<16>(bits))
    }
}

/// Shifts the bits of sixteen 8-bit floats into the places of half-precision floats.
#[inline(always)]
unsafe fn f8_to_f16(at: *const u8) -> __m256i {
    // SAFETY: see above; the sign is in the two highest bits once it is widened and shifted.
    unsafe {
        let bits = _mm256_slli_epi16::<7>(_mm256_cvtepi8_epi16(_mm_loadu_si128(at.cast())));
        _mm256_and_si256(bits, _mm256_set1_epi16(0xbf80_u16 as i16))
    }
}

/// Adds four products to each of eight sums.
#[inline(always)]
unsafe fn dot256(sum: __m256i, block: [__m256i; 2], quad: [__m256i; 2]) -> __m256i {
    // SAFETY: see above.
    unsafe {
        let even = _mm256_madd_epi16(block[0], quad[0]);
        let odd = _mm256_madd_epi16(block[1], quad[1]);
        _mm256_add_epi32(sum, _mm256_add_epi32(even, odd))
    }
}

/// Returns the even and the odd bytes as 16 bits.
#[inline(always)]
unsafe fn split256(bytes: __m256i) -> [__m256i; 2] {
    // SAFETY: see above.
    unsafe {
        [
            _mm256_and_si256(bytes, _mm256_set1_epi16(255)),
            _mm256_srli_epi16::<8>(bytes),
        ]
    }
}

/// Looks up the codes in the lower and in the upper halves of 32 bytes.
#[inline(always)]
unsafe fn look_up256(at: *const u8, table: &[u8; 16]) -> [__m256i; 2] {
    // SAFETY: see above.
    unsafe {
        let table = _mm256_broadcastsi128_si256(_mm_loadu_si128(table.as_ptr().cast()));
        let (packed, low) = (_mm256_loadu_si256(at.cast()), _mm256_set1_epi8(15));
        [
            _mm256_shuffle_epi8(table, _mm256_and_si256(packed, low)),
            _mm256_shuffle_epi8(table, _mm256_and_si256(_mm256_srli_epi16::<4>(packed), low)),
        ]
    }
}

/// Looks up the codes in the lower and in the upper halves of 64 bytes.
#[inline(always)]
unsafe fn look_up512(at: *const u8, table: &[u8; 16]) -> [__m512i; 2] {
    // SAFETY: see above.
    unsafe {
        let table = _mm512_broadcast_i32x4(_mm_loadu_si128(table.as_ptr().cast()));
        let (packed, low) = (_mm512_loadu_si512(at.cast()), _mm512_set1_epi8(15));
        [
            _mm512_shuffle_epi8(table, _mm512_and_si512(packed, low)),
            _mm512_shuffle_epi8(table, _mm512_and_si512(_mm512_srli_epi16::<4>(packed), low)),
        ]
    }
}

/// What both sets with registers of 512 bits have in common.
macro_rules! floats512 {
    () => {
        type Floats = __m512;
        type Whole = __m512i;

        const MANY_REGISTERS: bool = true;
        const FLOAT_TILE: TileShape = TileShape { rows: 12, panels: 2 };
        const WHOLE_TILE: TileShape = TileShape { rows: 6, panels: 2 };

        #[inline(always)]
        unsafe fn splat(value: f32) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_set1_ps(value) }
        }

        #[inline(always)]
        unsafe fn load(at: *const f32) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_loadu_ps(at) }
        }

        #[inline(always)]
        unsafe fn store(at: *mut f32, values: __m512) {
            // SAFETY: see above.
            unsafe { _mm512_storeu_ps(at, values) }
        }

        #[inline(always)]
        unsafe fn load_bf16(at: *const bf16) -> __m512 {
            // SAFETY: see above; a bf16 is the upper half of an f32.
            unsafe {
                let bits = _mm512_cvtepu16_epi32(_mm256_loadu_si256(at.cast()));
                _mm512_castsi512_ps(_mm512_slli_epi32::<16>(bits))
            }
        }

        #[inline(always)]
        unsafe fn load_f16(at: *const f16) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_cvtph_ps(_mm256_loadu_si256(at.cast())) }
        }

        #[inline(always)]
        unsafe fn load_f8(at: *const u8) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_cvtph_ps(f8_to_f16(at)) }
        }

        #[inline(always)]
        unsafe fn load_i8(at: *const i8) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_cvtepi32_ps(_mm512_cvtepi8_epi32(_mm_loadu_si128(at.cast()))) }
        }

        #[inline(always)]
        unsafe fn mul(a: __m512, b: __m512) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_mul_ps(a, b) }
        }

        #[inline(always)]
        unsafe fn fma(a: __m512, b: __m512, c: __m512) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_fmadd_ps(a, b, c) }
        }

        #[inline(always)]
        unsafe fn larger_bits(most: __m512i, values: __m512) -> __m512i {
            // SAFETY: see above.
            unsafe {
                _mm512_max_epi32(
                    most,
                    _mm512_and_si512(_mm512_castps_si512(values), _mm512_set1_epi32(i32::MAX)),
                )
            }
        }

        #[inline(always)]
        unsafe fn largest_lane(values: __m512i) -> i32 {
            // SAFETY: see above.
            unsafe { _mm512_reduce_max_epi32(values) }
        }

        #[inline(always)]
        unsafe fn store_rounded(at: *mut i8, values: __m512) -> __m512i {
            // SAFETY: see above.
            unsafe {
                let round = _mm512_set1_epi32(ROUND.to_bits() as i32);
                let whole = _mm512_sub_epi32(_mm512_castps_si512(values), round);
                _mm_storeu_si128(at.cast(), _mm512_cvtepi32_epi8(whole));
                whole
            }
        }

        #[inline(always)]
        unsafe fn add_whole(a: __m512i, b: __m512i) -> __m512i {
            // SAFETY: see above.
            unsafe { _mm512_add_epi32(a, b) }
        }

        #[inline(always)]
        unsafe fn sum_lanes(values: __m512i) -> i32 {
            // SAFETY: see above.
            unsafe { _mm512_reduce_add_epi32(values) }
        }

        #[inline(always)]
        unsafe fn largest_float(values: __m512) -> f32 {
            // SAFETY: see above.
            unsafe { _mm512_reduce_max_ps(values) }
        }

        #[inline(always)]
        unsafe fn prefetch<T>(at: *const T) {
            // SAFETY: see above.
            unsafe { _mm_prefetch::<_MM_HINT_T0>(at.cast()) }
        }

        #[inline(always)]
        unsafe fn splat_whole(value: i32) -> __m512i {
            // SAFETY: see above.
            unsafe { _mm512_set1_epi32(value) }
        }

        #[inline(always)]
        unsafe fn to_floats(values: __m512i) -> __m512 {
            // SAFETY: see above.
            unsafe { _mm512_cvtepi32_ps(values) }
        }

        #[inline(always)]
        unsafe fn expand_pair(at: *const u8, table: &[u8; 16], to: *mut u8) {
            // SAFETY: see above.
            unsafe {
                let [first, second] = look_up512(at, table);
                _mm512_storeu_si512(to.cast(), first);
                _mm512_storeu_si512(to.add(BLOCK).cast(), second);
            }
        }
    };
}

impl Vector for Avx512 {
    floats512!();

    /// The even and the odd bytes.
    type Block = [__m512i; 2];
    type Quad = [__m512i; 2];

    #[inline(always)]
    unsafe fn block(at: *const u8) -> [__m512i; 2] {
        // SAFETY: see above.
        unsafe { split512(_mm512_loadu_si512(at.cast())) }
    }

    #[inline(always)]
    unsafe fn block_pair(at: *const u8, table: &[u8; 16]) -> [[__m512i; 2]; 2] {
        // SAFETY: see above.
        unsafe {
            let [first, second] = look_up512(at, table);
            [split512(first), split512(second)]
        }
    }

    #[inline(always)]
    unsafe fn quad(at: *const i8) -> [__m512i; 2] {
        // SAFETY: see above.
        unsafe {
            let all = _mm512_set1_epi32(at.cast::<i32>().read_unaligned());
            let even = _mm512_srai_epi16::<8>(_mm512_slli_epi16::<8>(all));
            [even, _mm512_srai_epi16::<8>(all)]
        }
    }

    #[inline(always)]
    unsafe fn dot(sum: __m512i, block: [__m512i; 2], quad: [__m512i; 2]) -> __m512i {
        // SAFETY: see above.
        unsafe {
            let even = _mm512_madd_epi16(block[0], quad[0]);
            let odd = _mm512_madd_epi16(block[1], quad[1]);
            _mm512_add_epi32(sum, _mm512_add_epi32(even, odd))
        }
    }
}

/// Returns the even and the odd bytes as 16 bits.
#[inline(always)]
unsafe fn split512(bytes: __m512i) -> [__m512i; 2] {
    // SAFETY: see above.
    unsafe {
        [
            _mm512_and_si512(bytes, _mm512_set1_epi16(255)),
            _mm512_srli_epi16::<8>(bytes),
        ]
    }
}

impl Vector for Avx512Vnni {
    floats512!();

    type Block = __m512i;
    type Quad = __m512i;

    #[inline(always)]
    unsafe fn block(at: *const u8) -> __m512i {
        // SAFETY: see above.
        unsafe { _mm512_loadu_si512(at.cast()) }
    }

    #[inline(always)]
    unsafe fn block_pair(at: *const u8, table: &[u8; 16]) -> [__m512i; 2] {
        // SAFETY: see above.
        unsafe { look_up512(at, table) }
    }

    #[inline(always)]
    unsafe fn quad(at: *const i8) -> __m512i {
        // SAFETY: see above.
        unsafe { _mm512_set1_epi32(at.cast::<i32>().read_unaligned()) }
    }

    #[inline(always)]
    unsafe fn dot(sum: __m512i, block: __m512i, quad: __m512i) -> __m512i {
        // SAFETY: see above.
        unsafe { _mm512_dpbusd_epi32(sum, block, quad) }
    }
}
