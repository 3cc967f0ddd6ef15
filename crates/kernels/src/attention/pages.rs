//! The memory of keys and values.

use super::{PAGE_TOKENS, Shape};
use crate::largest::largest;
use crate::reserved::{Reserved, Untouched};
use crate::thread_pool::Shared2d;
use crate::vector::Vector;
use bytemuck::Pod;
use half::bf16;

/// What keys and values are kept as.
pub(super) trait Cell: Pod + Default + Send + Sync + 'static {
    /// Whether it stands for a value only together with a scale.
    const SCALED: bool;
    /// Narrows a value that was divided by its scale.
    fn narrow(value: f32) -> Self;
    /// Reads and widens sixteen of them.
    ///
    /// # Safety
    /// As for [`Vector`].
    unsafe fn load<V: Vector>(at: *const Self) -> V::Floats;
}

impl Cell for f32 {
    const SCALED: bool = false;

    #[inline(always)]
    fn narrow(value: f32) -> f32 {
        value
    }

    #[inline(always)]
    unsafe fn load<V: Vector>(at: *const f32) -> V::Floats {
        // SAFETY: the caller's.
        unsafe { V::load(at) }
    }
}

impl Cell for bf16 {
    const SCALED: bool = false;

    #[inline(always)]
    fn narrow(value: f32) -> bf16 {
        bf16::from_f32(value)
    }

    #[inline(always)]
    unsafe fn load<V: Vector>(at: *const bf16) -> V::Floats {
        // SAFETY: the caller's.
        unsafe { V::load_bf16(at) }
    }
}

impl Cell for i8 {
    const SCALED: bool = true;

    #[inline(always)]
    fn narrow(value: f32) -> i8 {
        value.round() as i8
    }

    #[inline(always)]
    unsafe fn load<V: Vector>(at: *const i8) -> V::Floats {
        // SAFETY: the caller's.
        unsafe { V::load_i8(at) }
    }
}

/// Keys and values: pages × KV heads × [`PAGE_TOKENS`] × head size.
pub(super) struct Kept<T> {
    pub keys: Reserved<T>,
    pub values: Reserved<T>,
    /// For cells that need one, what each token's keys and values are multiplied with: pages × KV heads × [`PAGE_TOKENS`].
    pub key_scales: Reserved<f32>,
    pub value_scales: Reserved<f32>,
}

impl<T: Cell> Kept<T> {
    pub fn new(pages: usize, shape: Shape) -> Kept<T> {
        let tokens = pages * shape.kv_heads * PAGE_TOKENS;
        let scales = if T::SCALED { tokens } else { 0 };
        Kept {
            keys: Reserved::zeros(tokens * shape.head_dim),
            values: Reserved::zeros(tokens * shape.head_dim),
            key_scales: Reserved::zeros(scales),
            value_scales: Reserved::zeros(scales),
        }
    }

    /// Returns all of its memory, for somebody who touches it.
    pub fn untouched(&self) -> [Untouched; 4] {
        [
            self.keys.untouched(),
            self.values.untouched(),
            self.key_scales.untouched(),
            self.value_scales.untouched(),
        ]
    }

    /// Copies `pages` heads' pages.
    pub fn copy(&mut self, from: usize, to: usize, pages: usize, head_dim: usize) {
        let len = PAGE_TOKENS * head_dim;
        self.keys.copy_within(from * len..(from + pages) * len, to * len);
        self.values.copy_within(from * len..(from + pages) * len, to * len);
        if T::SCALED {
            let tokens = from * PAGE_TOKENS..(from + pages) * PAGE_TOKENS;
            self.key_scales.copy_within(tokens.clone(), to * PAGE_TOKENS);
            self.value_scales.copy_within(tokens, to * PAGE_TOKENS);
        }
    }

    /// Returns access for several threads.
    pub fn writing(&mut self) -> Writing<'_, T> {
        Writing {
            keys: Shared2d::new(&mut self.keys),
            values: Shared2d::new(&mut self.values),
            key_scales: Shared2d::new(&mut self.key_scales),
            value_scales: Shared2d::new(&mut self.value_scales),
        }
    }
}

/// As [`Kept`], to be written by several threads.
pub(super) struct Writing<'a, T> {
    keys: Shared2d<'a, T>,
    values: Shared2d<'a, T>,
    key_scales: Shared2d<'a, f32>,
    value_scales: Shared2d<'a, f32>,
}

impl<T: Cell> Writing<'_, T> {
    /// Stores the keys and values (`[kv_heads, head_dim]`) of a token, from the page of its first head on.
    ///
    /// # Safety
    /// No other thread stores at the same time in the same place of the same pages.
    pub unsafe fn store_token(&self, page: usize, token: usize, head_dim: usize, keys: &[f32], values: &[f32]) {
        let heads = keys.chunks_exact(head_dim).zip(values.chunks_exact(head_dim));
        for (head, (keys, values)) in heads.enumerate() {
            // SAFETY: the caller's.
            unsafe { self.store(page + head, token, keys, values) };
        }
    }

    /// Stores one head's keys and values of a token in a page.
    ///
    /// # Safety
    /// No other thread stores at the same time in the same place of the same page.
    unsafe fn store(&self, page: usize, token: usize, keys: &[f32], values: &[f32]) {
        let head_dim = keys.len();
        let start = page * PAGE_TOKENS * head_dim;
        let (mut key_inverse, mut value_inverse) = (1.0, 1.0);
        if T::SCALED {
            let at = page * PAGE_TOKENS + token;
            let (key_scale, value_scale);
            (key_scale, key_inverse) = scale_of(keys);
            (value_scale, value_inverse) = scale_of(values);
            // SAFETY: a scale is of one place of a page.
            unsafe {
                self.key_scales.part(at, 1)[0] = key_scale;
                self.value_scales.part(at, 1)[0] = value_scale;
            }
        }
        for (d, key) in keys.iter().enumerate() {
            // SAFETY: this key is of one place of a page.
            unsafe { self.keys.part(start + d * PAGE_TOKENS + token, 1)[0] = T::narrow(key * key_inverse) };
        }
        // SAFETY: these values are of one place of a page.
        let kept = unsafe { self.values.part(start + token * head_dim, head_dim) };
        for (kept, value) in kept.iter_mut().zip(values) {
            *kept = T::narrow(value * value_inverse);
        }
    }
}

/// Returns the scale that makes the largest 127, and its inverse; no number, where one of them is none.
fn scale_of(values: &[f32]) -> (f32, f32) {
    let most = largest(values);
    if most == 0.0 {
        return (0.0, 0.0);
    }
    if !most.is_finite() {
        return (f32::NAN, 0.0);
    }
    (most / 127.0, 127.0 / most)
}
