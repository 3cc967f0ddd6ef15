//! Attention over keys and values that lie in pages.
//!
//! A page holds [`LANES`] tokens of one layer and one KV head. Its keys lie dimension-major (`[head_dim, LANES]`), so that
//! sixteen scores come from one pass without sums across lanes; its values lie token-major (`[LANES, head_dim]`).

use crate::LANES;
use crate::exponential::{exp, tanh};
use crate::isa::{Isa, for_each_isa};
use crate::pool::{Pool, Shared2d};
use half::bf16;

/// Tokens in a page.
pub const PAGE_TOKENS: usize = LANES;

/// The shape of attention in one layer.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// Query heads.
    pub heads: usize,
    /// Key and value heads; divides `heads`.
    pub kv_heads: usize,
    /// Elements in a head.
    pub head_dim: usize,
    /// What scores are multiplied with before the softmax.
    pub scale: f32,
    /// Scores s become c · tanh(s / c), after the scale.
    pub cap: Option<f32>,
    /// How many tokens a query sees, its own included; all where there is no window.
    pub window: Option<usize>,
}

impl Shape {
    /// Returns the first token that a query at a position sees.
    pub fn first_seen(&self, position: usize) -> usize {
        self.window.map_or(0, |window| (position + 1).saturating_sub(window))
    }
}

/// KV cache precision.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum KvPrecision {
    /// 32-bit floats.
    #[default]
    F32,
    /// Brain floats.
    Bf16,
    /// Whole numbers of 8 bits, with a scale for each token and head.
    Int8,
}

impl KvPrecision {
    /// Returns the precision of a name.
    pub fn of(name: &str) -> Option<KvPrecision> {
        [KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8]
            .into_iter()
            .find(|kv| kv.name() == name)
    }

    /// Returns its name.
    pub fn name(self) -> &'static str {
        match self {
            KvPrecision::F32 => "f32",
            KvPrecision::Bf16 => "bf16",
            KvPrecision::Int8 => "int8",
        }
    }

    /// Returns the bytes of one token's keys, or values, in one head.
    fn head_bytes(self, head_dim: usize) -> usize {
        match self {
            KvPrecision::F32 => 4 * head_dim,
            KvPrecision::Bf16 => 2 * head_dim,
            KvPrecision::Int8 => head_dim + size_of::<f32>(),
        }
    }
}

/// Keys and values of one layer.
pub struct LayerPages {
    memory: Memory,
    shape: Shape,
}

enum Memory {
    F32(Kept<f32>),
    Bf16(Kept<bf16>),
    Int8(Kept<i8>),
}

/// Keys and values: pages × KV heads × [`PAGE_TOKENS`] × head size.
struct Kept<T> {
    keys: Vec<T>,
    values: Vec<T>,
    /// For numbers that need one, what each token's keys and values are multiplied with: pages × KV heads × [`PAGE_TOKENS`].
    key_scales: Vec<f32>,
    value_scales: Vec<f32>,
}

/// What keys and values are kept as.
trait Cell: Copy + Default {
    /// Whether it stands for a value only together with a scale.
    const SCALED: bool;
    fn widen(self) -> f32;
    /// Narrows a value that was divided by its scale.
    fn narrow(value: f32) -> Self;
}

impl Cell for f32 {
    const SCALED: bool = false;
    #[inline(always)]
    fn widen(self) -> f32 {
        self
    }
    fn narrow(value: f32) -> f32 {
        value
    }
}

impl Cell for bf16 {
    const SCALED: bool = false;
    #[inline(always)]
    fn widen(self) -> f32 {
        f32::from_bits(u32::from(self.to_bits()) << 16)
    }
    fn narrow(value: f32) -> bf16 {
        bf16::from_f32(value)
    }
}

impl Cell for i8 {
    const SCALED: bool = true;
    #[inline(always)]
    fn widen(self) -> f32 {
        f32::from(self)
    }
    fn narrow(value: f32) -> i8 {
        value.round() as i8
    }
}

impl<T: Cell> Kept<T> {
    fn new(pages: usize, shape: Shape) -> Kept<T> {
        let tokens = pages * shape.kv_heads * PAGE_TOKENS;
        let scales = if T::SCALED { tokens } else { 0 };
        Kept {
            keys: vec![T::default(); tokens * shape.head_dim],
            values: vec![T::default(); tokens * shape.head_dim],
            key_scales: vec![0.0; scales],
            value_scales: vec![0.0; scales],
        }
    }

    /// Stores one head's keys and values of a token in a page.
    fn store(&mut self, page: usize, token: usize, keys: &[f32], values: &[f32]) {
        let head_dim = keys.len();
        let start = page * PAGE_TOKENS * head_dim;
        let (mut key_inverse, mut value_inverse) = (1.0, 1.0);
        if T::SCALED {
            let at = page * PAGE_TOKENS + token;
            (self.key_scales[at], key_inverse) = scale_of(keys);
            (self.value_scales[at], value_inverse) = scale_of(values);
        }
        for (d, key) in keys.iter().enumerate() {
            self.keys[start + d * PAGE_TOKENS + token] = T::narrow(key * key_inverse);
        }
        let kept = &mut self.values[start + token * head_dim..][..head_dim];
        for (kept, value) in kept.iter_mut().zip(values) {
            *kept = T::narrow(value * value_inverse);
        }
    }

    /// Copies `pages` heads' pages.
    fn copy(&mut self, from: usize, to: usize, pages: usize, head_dim: usize) {
        let len = PAGE_TOKENS * head_dim;
        self.keys.copy_within(from * len..(from + pages) * len, to * len);
        self.values.copy_within(from * len..(from + pages) * len, to * len);
        if T::SCALED {
            let tokens = from * PAGE_TOKENS..(from + pages) * PAGE_TOKENS;
            self.key_scales.copy_within(tokens.clone(), to * PAGE_TOKENS);
            self.value_scales.copy_within(tokens, to * PAGE_TOKENS);
        }
    }
}

/// Returns the scale that makes the largest 127, and its inverse.
fn scale_of(values: &[f32]) -> (f32, f32) {
    let most = values.iter().fold(0.0f32, |most, value| most.max(value.abs()));
    if most == 0.0 {
        return (0.0, 0.0);
    }
    (most / 127.0, 127.0 / most)
}

/// One row of queries: where it stands and which pages hold what it may see.
#[derive(Clone, Copy)]
pub struct Row<'a> {
    /// Its position; it sees the tokens up to this one, from [`Shape::first_seen`] on.
    pub position: usize,
    /// The pages of its sequence, in order of position; those before what it sees are not looked at.
    pub pages: &'a [u32],
}

impl LayerPages {
    /// Returns zeroed memory for `pages` pages.
    pub fn new(pages: usize, shape: Shape, precision: KvPrecision) -> LayerPages {
        let memory = match precision {
            KvPrecision::F32 => Memory::F32(Kept::new(pages, shape)),
            KvPrecision::Bf16 => Memory::Bf16(Kept::new(pages, shape)),
            KvPrecision::Int8 => Memory::Int8(Kept::new(pages, shape)),
        };
        LayerPages { memory, shape }
    }

    /// Returns the bytes that one page takes in one layer, keys and values together.
    pub fn bytes_per_page(shape: Shape, precision: KvPrecision) -> usize {
        2 * shape.kv_heads * PAGE_TOKENS * precision.head_bytes(shape.head_dim)
    }

    /// Stores the keys and values (`[kv_heads, head_dim]` each) of the token at `row.position`.
    ///
    /// # Panics
    /// When the row has no page for its position.
    pub fn store(&mut self, row: Row<'_>, keys: &[f32], values: &[f32]) {
        let Shape { kv_heads, head_dim, .. } = self.shape;
        assert!(
            keys.len() == kv_heads * head_dim && values.len() == keys.len(),
            "keys and values of one token"
        );
        let (page, token) = (row.pages[row.position / PAGE_TOKENS], row.position % PAGE_TOKENS);
        let heads = keys.chunks_exact(head_dim).zip(values.chunks_exact(head_dim));
        for (head, (keys, values)) in heads.enumerate() {
            let page = page as usize * kv_heads + head;
            match &mut self.memory {
                Memory::F32(cells) => cells.store(page, token, keys, values),
                Memory::Bf16(cells) => cells.store(page, token, keys, values),
                Memory::Int8(cells) => cells.store(page, token, keys, values),
            }
        }
    }

    /// Copies one page over another.
    ///
    /// # Panics
    /// When there is no such page.
    pub fn copy(&mut self, from: u32, to: u32) {
        let Shape { kv_heads, head_dim, .. } = self.shape;
        let (from, to) = (from as usize * kv_heads, to as usize * kv_heads);
        match &mut self.memory {
            Memory::F32(cells) => cells.copy(from, to, kv_heads, head_dim),
            Memory::Bf16(cells) => cells.copy(from, to, kv_heads, head_dim),
            Memory::Int8(cells) => cells.copy(from, to, kv_heads, head_dim),
        }
    }

    /// Computes attention for rows of queries `[rows, heads, head_dim]` into `out`, of the same shape.
    ///
    /// The softmax runs along the pages with a running maximum, one page at a time ("Online normalizer calculation for
    /// softmax", Milakov and Gimelshein, 2018), so a row's result depends on what it sees and on nothing else.
    ///
    /// # Panics
    /// When the shapes do not fit, or a row's pages do not reach its position.
    pub fn attend(&self, isa: Isa, pool: &Pool, rows: &[Row<'_>], queries: &[f32], out: &mut [f32]) {
        let Shape {
            heads,
            kv_heads,
            head_dim,
            ..
        } = self.shape;
        assert!(
            queries.len() == rows.len() * heads * head_dim && out.len() == queries.len(),
            "rows of attention"
        );
        let group = heads / kv_heads;
        let out = Shared2d::new(out);
        pool.run(rows.len() * kv_heads, &|task| {
            let (row, kv_head) = (task / kv_heads, task % kv_heads);
            for head in kv_head * group..(kv_head + 1) * group {
                let at = (row * heads + head) * head_dim;
                // SAFETY: each row and head is the work of one task, and its only part.
                let out = unsafe { out.part(at, head_dim) };
                let seen = Seen {
                    shape: self.shape,
                    row: rows[row],
                    kv_head,
                };
                let query = &queries[at..at + head_dim];
                match &self.memory {
                    Memory::F32(cells) => attend_f32(isa, cells, seen, query, out),
                    Memory::Bf16(cells) => attend_bf16(isa, cells, seen, query, out),
                    Memory::Int8(cells) => attend_int8(isa, cells, seen, query, out),
                }
            }
        });
    }
}

/// What one query head of one row sees.
#[derive(Clone, Copy)]
struct Seen<'a> {
    shape: Shape,
    row: Row<'a>,
    kv_head: usize,
}

for_each_isa! {
    fn attend_f32(cells: &Kept<f32>, seen: Seen<'_>, query: &[f32], out: &mut [f32]) {
        attend_one(cells, seen, query, out);
    }
}

for_each_isa! {
    fn attend_bf16(cells: &Kept<bf16>, seen: Seen<'_>, query: &[f32], out: &mut [f32]) {
        attend_one(cells, seen, query, out);
    }
}

for_each_isa! {
    fn attend_int8(cells: &Kept<i8>, seen: Seen<'_>, query: &[f32], out: &mut [f32]) {
        attend_one(cells, seen, query, out);
    }
}

#[inline(always)]
fn attend_one<T: Cell>(cells: &Kept<T>, seen: Seen<'_>, query: &[f32], out: &mut [f32]) {
    let head_dim = query.len();
    let Seen { shape, row, kv_head } = seen;
    let (mut highest, mut total) = (f32::NEG_INFINITY, 0.0f32);
    out.fill(0.0);
    let first = shape.first_seen(row.position);
    let pages = row.pages[..=row.position / PAGE_TOKENS].iter().enumerate();
    for (index, page) in pages.skip(first / PAGE_TOKENS) {
        let page = *page as usize * shape.kv_heads + kv_head;
        let start = page * PAGE_TOKENS * head_dim;
        let keys = &cells.keys[start..start + PAGE_TOKENS * head_dim];
        let values = &cells.values[start..start + PAGE_TOKENS * head_dim];
        let seen = first.saturating_sub(index * PAGE_TOKENS)..PAGE_TOKENS.min(row.position + 1 - index * PAGE_TOKENS);

        let mut scores = [0.0f32; PAGE_TOKENS];
        for (q, keys) in query.iter().zip(keys.as_chunks::<PAGE_TOKENS>().0) {
            for (score, key) in scores.iter_mut().zip(keys) {
                *score = q.mul_add(key.widen(), *score);
            }
        }
        if T::SCALED {
            let scales = &cells.key_scales[page * PAGE_TOKENS..][..PAGE_TOKENS];
            scores.iter_mut().zip(scales).for_each(|(score, scale)| *score *= scale);
        }
        let mut top = highest;
        for score in &mut scores[seen.clone()] {
            *score *= shape.scale;
            if let Some(cap) = shape.cap {
                *score = cap * tanh(*score / cap);
            }
            top = top.max(*score);
        }
        if top > highest {
            let shrink = if highest == f32::NEG_INFINITY {
                0.0
            } else {
                exp(highest - top)
            };
            total *= shrink;
            out.iter_mut().for_each(|out| *out *= shrink);
            highest = top;
        }
        let mut shares = [0.0f32; PAGE_TOKENS];
        for (share, score) in shares.iter_mut().zip(&scores) {
            *share = exp(*score - highest);
        }
        let rows = shares.iter().zip(values.chunks_exact(head_dim)).enumerate();
        for (token, (share, value)) in rows.take(seen.end).skip(seen.start) {
            total += share;
            let share = match T::SCALED {
                true => share * cells.value_scales[page * PAGE_TOKENS + token],
                false => *share,
            };
            for (out, value) in out.iter_mut().zip(value) {
                *out = share.mul_add(value.widen(), *out);
            }
        }
    }
    let scale = 1.0 / total;
    out.iter_mut().for_each(|out| *out *= scale);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Softmax attention by its formula, in f64, over tokens in order.
    fn reference(shape: Shape, keys: &[Vec<f32>], values: &[Vec<f32>], query: &[f32]) -> Vec<f64> {
        let group = shape.heads / shape.kv_heads;
        let mut out = vec![0.0; query.len()];
        for head in 0..shape.heads {
            let q = &query[head * shape.head_dim..(head + 1) * shape.head_dim];
            let at = head / group * shape.head_dim;
            let first = shape.first_seen(keys.len() - 1);
            let product = |k: &Vec<f32>| q.iter().zip(&k[at..]).map(|(q, k)| *q as f64 * *k as f64).sum::<f64>();
            let scaled = keys[first..].iter().map(|k| product(k) * shape.scale as f64);
            let capped = |score: f64| shape.cap.map_or(score, |cap| cap as f64 * (score / cap as f64).tanh());
            let scores: Vec<f64> = scaled.map(capped).collect();
            let top = scores.iter().copied().fold(f64::MIN, f64::max);
            let total: f64 = scores.iter().map(|s| (s - top).exp()).sum();
            for (score, v) in scores.iter().zip(&values[first..]) {
                for d in 0..shape.head_dim {
                    out[head * shape.head_dim + d] += (score - top).exp() / total * v[at + d] as f64;
                }
            }
        }
        out
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn matches_the_formula_wherever_the_pages_lie(
            kv_heads in 1usize..4, group in 1usize..4, head_dim in 1usize..40, length in 1usize..80, seed in any::<u32>(),
            window in proptest::option::of(1usize..50), cap in proptest::option::of(0.5f32..3.0),
            precision in prop::sample::select(vec![KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8]),
        ) {
            let shape = Shape { heads: kv_heads * group, kv_heads, head_dim, scale: 0.3, cap, window };
            let value = |a: usize, b: usize| ((a * 131 + b * 17 + seed as usize % 1000) as f32 * 0.37).sin() * 2.0;
            let keys: Vec<Vec<f32>> = (0..length).map(|t| (0..kv_heads * head_dim).map(|d| value(t, d)).collect()).collect();
            let values: Vec<Vec<f32>> = (0..length).map(|t| (0..kv_heads * head_dim).map(|d| value(d, t + 7)).collect()).collect();
            let query: Vec<f32> = (0..shape.heads * head_dim).map(|d| value(d, 3)).collect();
            let needed = length.div_ceil(PAGE_TOKENS);
            let pages: Vec<u32> = (0..needed as u32).map(|p| (needed as u32 - 1 - p) * 2).collect();
            let mut layer = LayerPages::new(2 * needed, shape, precision);
            for t in 0..length {
                layer.store(Row { position: t, pages: &pages }, &keys[t], &values[t]);
            }
            let wanted = reference(shape, &keys, &values, &query);
            let mut scalar = vec![0.0; query.len()];
            let rows = [Row { position: length - 1, pages: &pages }];
            layer.attend(Isa::SCALAR, &Pool::new(1), &rows, &query, &mut scalar);
            for (out, wanted) in scalar.iter().zip(&wanted) {
                // Values lie between −2 and 2, keys too, and a score has up to forty products.
                let most = match precision {
                    KvPrecision::F32 => 1e-5,
                    KvPrecision::Bf16 => 0.1,
                    KvPrecision::Int8 => 0.2,
                };
                prop_assert!((*out as f64 - wanted).abs() < most, "{} {}", out, wanted);
            }
            for isa in Isa::available() {
                let twice = [rows[0], rows[0]];
                let mut out = vec![0.0; 2 * query.len()];
                layer.attend(isa, &Pool::new(2), &twice, &[query.clone(), query.clone()].concat(), &mut out);
                prop_assert_eq!(&out[..query.len()], &scalar[..], "{:?}", isa);
                prop_assert_eq!(&out[query.len()..], &scalar[..]);
            }
        }
    }

    #[test]
    fn a_copied_page_reads_like_its_source() {
        let shape = Shape {
            heads: 2,
            kv_heads: 1,
            head_dim: 4,
            scale: 1.0,
            cap: None,
            window: None,
        };
        let mut layer = LayerPages::new(2, shape, KvPrecision::Int8);
        layer.store(
            Row {
                position: 0,
                pages: &[0],
            },
            &[1.0; 4],
            &[2.0; 4],
        );
        layer.copy(0, 1);
        let mut out = vec![0.0; 8];
        layer.attend(
            Isa::SCALAR,
            &Pool::new(1),
            &[Row {
                position: 0,
                pages: &[1],
            }],
            &[0.5; 8],
            &mut out,
        );
        assert!(out.iter().all(|out| (out - 2.0).abs() < 1e-5), "{out:?}");
    }
}
