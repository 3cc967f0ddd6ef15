//! Attention over keys and values that lie in pages.
//!
//! A page holds [`LANES`] tokens of one layer and one KV head. Its keys lie dimension-major (`[head_dim, LANES]`), so that
//! sixteen scores come from one pass without sums across lanes; its values lie token-major (`[LANES, head_dim]`).

use crate::LANES;
use crate::exponential::{exp, tanh};
use crate::isa::{Isa, for_each_isa};
use crate::pool::{Pool, Shared2d};

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

/// Keys and values of one layer: pages × KV heads × [`PAGE_TOKENS`] × head size.
pub struct LayerPages {
    keys: Vec<f32>,
    values: Vec<f32>,
    shape: Shape,
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
    pub fn new(pages: usize, shape: Shape) -> LayerPages {
        let len = pages * shape.kv_heads * PAGE_TOKENS * shape.head_dim;
        LayerPages {
            keys: vec![0.0; len],
            values: vec![0.0; len],
            shape,
        }
    }

    /// Returns the bytes that one page takes in one layer, keys and values together.
    pub fn bytes_per_page(shape: Shape) -> usize {
        2 * size_of::<f32>() * shape.kv_heads * PAGE_TOKENS * shape.head_dim
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
        let token = row.position % PAGE_TOKENS;
        for head in 0..kv_heads {
            let start = self.start(row.pages[row.position / PAGE_TOKENS], head);
            for d in 0..head_dim {
                self.keys[start + d * PAGE_TOKENS + token] = keys[head * head_dim + d];
            }
            let at = start + token * head_dim;
            self.values[at..at + head_dim].copy_from_slice(&values[head * head_dim..(head + 1) * head_dim]);
        }
    }

    /// Copies one page over another.
    ///
    /// # Panics
    /// When there is no such page.
    pub fn copy(&mut self, from: u32, to: u32) {
        let len = self.shape.kv_heads * PAGE_TOKENS * self.shape.head_dim;
        let (from, to) = (self.start(from, 0), self.start(to, 0));
        self.keys.copy_within(from..from + len, to);
        self.values.copy_within(from..from + len, to);
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
                let pages = Pages {
                    layer: self,
                    row: rows[row],
                    kv_head,
                };
                attend_one(isa, pages, &queries[at..at + head_dim], out);
            }
        });
    }

    fn start(&self, page: u32, head: usize) -> usize {
        (page as usize * self.shape.kv_heads + head) * PAGE_TOKENS * self.shape.head_dim
    }
}

/// What one query head of one row sees.
#[derive(Clone, Copy)]
struct Pages<'a> {
    layer: &'a LayerPages,
    row: Row<'a>,
    kv_head: usize,
}

for_each_isa! {
    fn attend_one(pages: Pages<'_>, query: &[f32], out: &mut [f32]) {
        let head_dim = query.len();
        let Pages { layer, row, kv_head } = pages;
        let (mut highest, mut total) = (f32::NEG_INFINITY, 0.0f32);
        out.fill(0.0);
        let Shape { scale, cap, .. } = layer.shape;
        let first = layer.shape.first_seen(row.position);
        let pages = row.pages[..=row.position / PAGE_TOKENS].iter().enumerate();
        for (index, page) in pages.skip(first / PAGE_TOKENS) {
            let start = layer.start(*page, kv_head);
            let keys = &layer.keys[start..start + PAGE_TOKENS * head_dim];
            let values = &layer.values[start..start + PAGE_TOKENS * head_dim];
            let seen = first.saturating_sub(index * PAGE_TOKENS)..PAGE_TOKENS.min(row.position + 1 - index * PAGE_TOKENS);

            let mut scores = [0.0f32; PAGE_TOKENS];
            for (q, keys) in query.iter().zip(keys.as_chunks::<PAGE_TOKENS>().0) {
                for (score, key) in scores.iter_mut().zip(keys) {
                    *score = q.mul_add(*key, *score);
                }
            }
            let mut top = highest;
            for score in &mut scores[seen.clone()] {
                *score *= scale;
                if let Some(cap) = cap {
                    *score = cap * tanh(*score / cap);
                }
                top = top.max(*score);
            }
            if top > highest {
                let shrink = if highest == f32::NEG_INFINITY { 0.0 } else { exp(highest - top) };
                total *= shrink;
                out.iter_mut().for_each(|out| *out *= shrink);
                highest = top;
            }
            let mut shares = [0.0f32; PAGE_TOKENS];
            for (share, score) in shares.iter_mut().zip(&scores) {
                *share = exp(*score - highest);
            }
            for (share, value) in shares.iter().zip(values.chunks_exact(head_dim)).take(seen.end).skip(seen.start) {
                total += share;
                for (out, value) in out.iter_mut().zip(value) {
                    *out = share.mul_add(*value, *out);
                }
            }
        }
        let scale = 1.0 / total;
        out.iter_mut().for_each(|out| *out *= scale);
    }
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
        ) {
            let shape = Shape { heads: kv_heads * group, kv_heads, head_dim, scale: 0.3, cap, window };
            let value = |a: usize, b: usize| ((a * 131 + b * 17 + seed as usize % 1000) as f32 * 0.37).sin() * 2.0;
            let keys: Vec<Vec<f32>> = (0..length).map(|t| (0..kv_heads * head_dim).map(|d| value(t, d)).collect()).collect();
            let values: Vec<Vec<f32>> = (0..length).map(|t| (0..kv_heads * head_dim).map(|d| value(d, t + 7)).collect()).collect();
            let query: Vec<f32> = (0..shape.heads * head_dim).map(|d| value(d, 3)).collect();
            let needed = length.div_ceil(PAGE_TOKENS);
            let pages: Vec<u32> = (0..needed as u32).map(|p| (needed as u32 - 1 - p) * 2).collect();
            let mut layer = LayerPages::new(2 * needed, shape);
            for t in 0..length {
                layer.store(Row { position: t, pages: &pages }, &keys[t], &values[t]);
            }
            let wanted = reference(shape, &keys, &values, &query);
            let mut scalar = vec![0.0; query.len()];
            let rows = [Row { position: length - 1, pages: &pages }];
            layer.attend(Isa::SCALAR, &Pool::new(1), &rows, &query, &mut scalar);
            for (out, wanted) in scalar.iter().zip(&wanted) {
                prop_assert!((*out as f64 - wanted).abs() < 1e-5, "{} {}", out, wanted);
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
        let mut layer = LayerPages::new(2, shape);
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
        assert_eq!(out, [2.0; 8]);
    }
}
