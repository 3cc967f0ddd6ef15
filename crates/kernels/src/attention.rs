//! Attention over keys and values that lie in pages.
//!
//! A page holds [`LANES`] tokens of one layer and one KV head. Its keys lie dimension-major (`[head_dim, LANES]`), so that
//! sixteen scores come from one pass without sums across lanes; its values lie token-major (`[LANES, head_dim]`).

mod pages;
mod span;

use crate::LANES;
use crate::groups::RoundedRows;
use crate::isa::Isa;
use crate::reserved::Untouched;
use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::part_of;
use half::bf16;
use pages::Kept;
use std::ops::Range;

/// Tokens in a page.
pub const PAGE_TOKENS: usize = LANES;
/// Spans for each core from which tasks are whole ones.
const SPANS_PER_CORE: usize = 4;
/// Most rows of a sequence that go through its pages together.
const SPAN_ROWS: usize = 16;

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
    F32,
    /// Brain floats.
    #[default]
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
    pub fn head_bytes(self, head_dim: usize) -> usize {
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

/// Calls something for the memory of any precision.
macro_rules! each {
    ($memory:expr, $kept:ident => $work:expr) => {
        match $memory {
            Memory::F32($kept) => $work,
            Memory::Bf16($kept) => $work,
            Memory::Int8($kept) => $work,
        }
    };
}

/// Some rows of one sequence, one token after the other.
#[derive(Clone, Copy, Debug)]
struct Span<'a> {
    /// The first row's place among all rows of the step.
    first: usize,
    rows: usize,
    /// The first row's position. A row sees the tokens up to its own, from [`Shape::first_seen`] on.
    start: usize,
    pages: &'a [u32],
}

/// Where the rows of a step stand and which pages hold what they may see.
pub struct Spans<'a> {
    /// All rows in order, cut so that each span is worth a task.
    spans: Vec<Span<'a>>,
    rows: usize,
}

impl<'a> Spans<'a> {
    /// Returns the rows of sequences, one after the other: of each, the position of its first row, how many rows it has, and its
    /// pages in order of position. Pages before what is seen are not looked at.
    ///
    /// # Panics
    /// When a sequence has no page for one of its rows, or two rows would be stored in the same place.
    pub fn new(sequences: impl IntoIterator<Item = (usize, usize, &'a [u32])>) -> Spans<'a> {
        let (mut spans, mut places) = (Vec::new(), Vec::new());
        let mut first = 0;
        for (start, rows, pages) in sequences {
            places.extend((start..start + rows).map(|at| (pages[at / PAGE_TOKENS], at % PAGE_TOKENS)));
            spans.extend((0..rows).step_by(SPAN_ROWS).map(|at| Span {
                first: first + at,
                rows: SPAN_ROWS.min(rows - at),
                start: start + at,
                pages,
            }));
            first += rows;
        }
        places.sort_unstable();
        assert!(
            places.windows(2).all(|pair| pair[0] != pair[1]),
            "each row is stored in a place of its own"
        );
        Spans { spans, rows: first }
    }

    /// Returns the position and the pages of each row, from one of them on.
    fn from(&self, row: usize) -> impl Iterator<Item = (usize, &'a [u32])> {
        let each = |span: &Span<'a>| {
            let Span { rows, start, pages, .. } = *span;
            (start..start + rows).map(move |position| (position, pages))
        };
        let begin = self.spans.partition_point(|span| span.first + span.rows <= row);
        let skipped = self.spans.get(begin).map_or(0, |span| row - span.first);
        self.spans[begin..].iter().flat_map(each).skip(skipped)
    }
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

    /// Returns how many pages there are.
    pub fn pages(&self) -> usize {
        let page = self.shape.kv_heads * PAGE_TOKENS * self.shape.head_dim;
        each!(&self.memory, kept => kept.keys.len() / page)
    }

    /// Returns its memory, for somebody who touches it.
    pub fn untouched(&self) -> [Untouched; 4] {
        each!(&self.memory, kept => kept.untouched())
    }

    /// Returns the bytes that one page takes in one layer, keys and values together.
    pub fn bytes_per_page(shape: Shape, precision: KvPrecision) -> usize {
        2 * shape.kv_heads * PAGE_TOKENS * precision.head_bytes(shape.head_dim)
    }

    /// Prepares rows `[rows, stride]` and stores their keys and values, on all cores: `prepare` is called with each row and its
    /// position; afterwards the row holds keys `[kv_heads, head_dim]` at `keys`, and values of that shape behind them.
    ///
    /// # Panics
    /// When the rows are not those of the spans, or keys and values do not fit into one.
    pub fn store(
        &mut self,
        threads: &ThreadPool,
        spans: &Spans<'_>,
        rows: &mut [f32],
        stride: usize,
        keys: usize,
        prepare: &(dyn Fn(usize, &mut [f32]) + Sync),
    ) {
        let width = self.shape.kv_heads * self.shape.head_dim;
        assert!(
            rows.len() == spans.rows * stride && keys + 2 * width <= stride,
            "rows with keys and values"
        );
        let shape = self.shape;
        each!(&mut self.memory, kept => {
            let writing = kept.writing();
            threads.rows(rows, stride, &|first, rows| {
                for (row, (position, pages)) in rows.chunks_exact_mut(stride).zip(spans.from(first)) {
                    prepare(position, row);
                    let (keys, values) = row[keys..keys + 2 * width].split_at(width);
                    let page = pages[position / PAGE_TOKENS] as usize * shape.kv_heads;
                    // SAFETY: no two rows of the spans have the same place in the same page.
                    unsafe { writing.store_token(page, position % PAGE_TOKENS, shape.head_dim, keys, values) };
                }
            });
        });
    }

    /// Copies one page over another.
    ///
    /// # Panics
    /// When there is no such page.
    pub fn copy(&mut self, from: u32, to: u32) {
        let Shape { kv_heads, head_dim, .. } = self.shape;
        let (from, to) = (from as usize * kv_heads, to as usize * kv_heads);
        each!(&mut self.memory, kept => kept.copy(from, to, kv_heads, head_dim));
    }

    /// Computes attention for rows of queries `[rows, heads, head_dim]`, each `stride` values after the last, into
    /// `out: [rows, heads, head_dim]`.
    ///
    /// A page is read once for all rows of a span and all heads that share it. The softmax runs along the pages with a running
    /// maximum, one page at a time ("Online normalizer calculation for softmax", Milakov and Gimelshein, 2018), so a row's
    /// result depends on what it sees and on nothing else.
    ///
    /// # Panics
    /// When the shapes do not fit.
    pub fn attend(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        spans: &Spans<'_>,
        queries: &[f32],
        stride: usize,
        out: &mut [f32],
    ) {
        self.check(spans, queries, stride, out);
        self.attend_parts(isa, threads, spans, (queries, stride), &Shared2d::new(out), &|_| ());
    }

    /// As [`LayerPages::attend`], and rounds the results in groups of so many values: whoever completes a tile of rows rounds it, while
    /// it lies in a near cache.
    ///
    /// # Panics
    /// As there.
    #[allow(clippy::too_many_arguments)]
    pub fn attend_rounded(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        spans: &Spans<'_>,
        queries: &[f32],
        stride: usize,
        out: &mut [f32],
        rounded: &mut RoundedRows,
        group: usize,
    ) {
        self.check(spans, queries, stride, out);
        let width = self.shape.heads * self.shape.head_dim;
        let out = Shared2d::new(out);
        let arriving = rounded.arriving(isa, spans.rows, width, group, self.parts(threads, spans));
        self.attend_parts(isa, threads, spans, (queries, stride), &out, &|rows| {
            // SAFETY: a row is whole once all parts of it have arrived, and nobody writes to it then.
            arriving.arrived(rows, &|row, rows| unsafe { out.part(row * width, rows * width) });
        });
    }

    fn check(&self, spans: &Spans<'_>, queries: &[f32], stride: usize, out: &[f32]) {
        let width = self.shape.heads * self.shape.head_dim;
        assert!(
            stride >= width && queries.len() == spans.rows * stride && out.len() == spans.rows * width,
            "rows of attention"
        );
    }

    /// Returns in how many parts each row is computed. Heads of a page lie side by side: a task has all of them where spans are enough
    /// for all cores and what they mix is small.
    fn parts(&self, threads: &ThreadPool, Spans { spans, .. }: &Spans<'_>) -> usize {
        let is_whole = spans.len() >= SPANS_PER_CORE * threads.cores() && spans.iter().all(|span| span.rows == 1);
        if is_whole { 1 } else { self.shape.kv_heads }
    }

    /// Computes rows in parts; calls `arrived` with the rows of which a part is complete.
    fn attend_parts(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        spans: &Spans<'_>,
        (queries, stride): (&[f32], usize),
        out: &Shared2d<'_, f32>,
        arrived: &(dyn Fn(Range<usize>) + Sync),
    ) {
        let (kv_heads, parts) = (self.shape.kv_heads, self.parts(threads, spans));
        let spans = &spans.spans;
        // The last spans see most: they come first, so that no core is left alone with them.
        threads.run(spans.len() * parts, &|task| {
            let task = spans.len() * parts - 1 - task;
            let (first, count) = part_of(kv_heads, parts, task % parts);
            let call = span::Call {
                shape: self.shape,
                span: spans[task / parts],
                kv_heads: first..first + count,
                queries,
                stride,
                out,
            };
            each!(&self.memory, kept => span::attend(isa, &call, kept));
            arrived(call.span.first..call.span.first + call.span.rows);
        });
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

    /// Stores keys and values of tokens, from the first position on.
    fn store(layer: &mut LayerPages, pages: &[u32], keys: &[Vec<f32>], values: &[Vec<f32>]) {
        let width = keys[0].len();
        let mut rows: Vec<f32> = keys
            .iter()
            .zip(values)
            .flat_map(|(k, v)| [&k[..], v].concat())
            .collect();
        let spans = Spans::new([(0, keys.len(), pages)]);
        layer.store(&ThreadPool::new(2), &spans, &mut rows, 2 * width, 0, &|_, _| {});
    }

    /// Returns the numbers of one head of a token as they are kept, by the definition.
    fn as_kept(precision: KvPrecision, head: &[f32]) -> Vec<f32> {
        let most = head.iter().fold(0f32, |most, value| most.max(value.abs()));
        let rounded = |value: f32| match precision {
            KvPrecision::F32 => value,
            KvPrecision::Bf16 => half::bf16::from_f32(value).to_f32(),
            KvPrecision::Int8 if most == 0.0 => 0.0,
            KvPrecision::Int8 => (value * (127.0 / most)).round_ties_even() * (most / 127.0),
        };
        head.iter().map(|value| rounded(*value)).collect()
    }

    #[test]
    #[should_panic(expected = "a place of its own")]
    fn two_rows_are_not_stored_in_one_place() {
        Spans::new([(0, 2, &[3][..]), (1, 1, &[3][..])]);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn matches_the_formula_wherever_the_pages_lie(
            kv_heads in 1usize..4, group in 1usize..4, head_dim in 1usize..80, length in 1usize..80, seed in any::<u32>(),
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
            store(&mut layer, &pages, &keys, &values);
            // Rounding loses more than the kernel may; a reference of rounded values shows errors of the kernel.
            let kept = |rows: &[Vec<f32>]| -> Vec<Vec<f32>> {
                rows.iter().map(|row| row.chunks(head_dim).flat_map(|head| as_kept(precision, head)).collect()).collect()
            };
            let wanted = reference(shape, &kept(&keys), &kept(&values), &query);
            let mut portable = vec![0.0; query.len()];
            let alone = Spans::new([(length - 1, 1, &pages[..])]);
            layer.attend(Isa::PORTABLE, &ThreadPool::new(1), &alone, &query, query.len(), &mut portable);
            for (out, wanted) in portable.iter().zip(&wanted) {
                // Values lie between −2 and 2, keys too, and a score has up to eighty products.
                prop_assert!((*out as f64 - wanted).abs() < 1e-4, "{:?} {} {}", precision, out, wanted);
            }
            // The same row alone, and at the end of others.
            for rows in [1, length.min(1 + seed as usize % 40)] {
                let spans = Spans::new([(length - rows, rows, &pages[..])]);
                let queries: Vec<f32> = (1..rows).flat_map(|_| query.iter().map(|q| q * 0.5)).chain(query.clone()).collect();
                for isa in Isa::available() {
                    let mut out = vec![0.0; queries.len()];
                    layer.attend(isa, &ThreadPool::new(2), &spans, &queries, query.len(), &mut out);
                    prop_assert_eq!(&out[(rows - 1) * query.len()..], &portable[..], "{:?}", isa);
                    let (mut as_made, mut after) = (RoundedRows::default(), RoundedRows::default());
                    let mut again = vec![0.0; queries.len()];
                    let threads = ThreadPool::new(2);
                    layer.attend_rounded(isa, &threads, &spans, &queries, query.len(), &mut again, &mut as_made, 8);
                    after.round(isa, &threads, &out, query.len(), 8);
                    prop_assert!(again == out && as_made.is_like(&after), "{:?}, rounded", isa);
                }
            }
        }
    }

    #[test]
    fn what_a_row_does_not_see_may_be_no_number() {
        let shape = Shape {
            heads: 1,
            kv_heads: 1,
            head_dim: 16,
            scale: 1.0,
            cap: None,
            window: None,
        };
        for precision in [KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8] {
            let mut layer = LayerPages::new(1, shape, precision);
            store(
                &mut layer,
                &[0],
                &[vec![1.0; 16], vec![f32::NAN; 16]],
                &[vec![2.0; 16], vec![f32::NAN; 16]],
            );
            for isa in Isa::available() {
                let mut out = vec![0.0; 32];
                let spans = Spans::new([(0, 2, &[0][..])]);
                layer.attend(isa, &ThreadPool::new(1), &spans, &[0.5; 32], 16, &mut out);
                assert!(
                    out[..16].iter().all(|out| (out - 2.0).abs() < 1e-5),
                    "{precision:?} {out:?}"
                );
                assert!(out[16..].iter().all(|out| out.is_nan()), "{precision:?} {out:?}");
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
        store(&mut layer, &[0], &[vec![1.0; 4]], &[vec![2.0; 4]]);
        layer.copy(0, 1);
        let mut out = vec![0.0; 8];
        let spans = Spans::new([(0, 1, &[1][..])]);
        layer.attend(Isa::PORTABLE, &ThreadPool::new(1), &spans, &[0.5; 8], 8, &mut out);
        assert!(out.iter().all(|out| (out - 2.0).abs() < 1e-5), "{out:?}");
    }
}
