//! Attention of a span of rows: page by page, for all rows and all heads that share the page.

use super::pages::{Cell, Kept};
use super::{PAGE_TOKENS, Shape, Span};
use crate::LANES;
use crate::aligned::LINE;
use crate::exponential::{exp, tanh};
use crate::isa::{Isa, for_each_isa};
use crate::reserved::Reserved;
use crate::thread_pool::Shared2d;
use crate::tiling::{Space, with_space};
use crate::vector::Vector;
use half::bf16;
use std::cell::RefCell;
use std::ops::Range;

/// Most queries whose scores or sums stay in registers together.
const TILE: usize = 4;

/// One span and some KV heads.
pub(super) struct Call<'a> {
    pub shape: Shape,
    pub span: Span<'a>,
    pub kv_heads: Range<usize>,
    /// `[all rows, stride]`, of which the first are `[heads, head_dim]`.
    pub queries: &'a [f32],
    pub stride: usize,
    /// `[all rows, heads, head_dim]`.
    pub out: &'a Shared2d<'a, f32>,
}

/// Cells that a span's attention is compiled for.
pub(super) trait Attended: Cell {
    /// Goes through the pages.
    fn pages(isa: Isa, call: &Call<'_>, kept: &Kept<Self>, state: &mut State<'_>);
}

impl Attended for f32 {
    fn pages(isa: Isa, call: &Call<'_>, kept: &Kept<f32>, state: &mut State<'_>) {
        pages_f32(isa, call, kept, state);
    }
}

impl Attended for bf16 {
    fn pages(isa: Isa, call: &Call<'_>, kept: &Kept<bf16>, state: &mut State<'_>) {
        pages_bf16(isa, call, kept, state);
    }
}

impl Attended for i8 {
    fn pages(isa: Isa, call: &Call<'_>, kept: &Kept<i8>, state: &mut State<'_>) {
        pages_int8(isa, call, kept, state);
    }
}

for_each_isa! {
    fn pages_f32<V>(call: &Call<'_>, kept: &Kept<f32>, state: &mut State<'_>) {
        through_pages::<V, f32>(call, kept, state);
    }
}

for_each_isa! {
    fn pages_bf16<V>(call: &Call<'_>, kept: &Kept<bf16>, state: &mut State<'_>) {
        through_pages::<V, bf16>(call, kept, state);
    }
}

for_each_isa! {
    fn pages_int8<V>(call: &Call<'_>, kept: &Kept<i8>, state: &mut State<'_>) {
        through_pages::<V, i8>(call, kept, state);
    }
}

/// One query of a span, and how far it has come.
#[derive(Clone, Copy)]
struct SpanProgress {
    /// Where it lies among all.
    from: usize,
    /// Where its result lies.
    to: usize,
    /// Its row's position.
    position: usize,
    /// The highest score so far.
    highest: f32,
    /// The shares so far, relative to it, lane by lane.
    totals: [f32; LANES],
}

/// How far all queries of a span have come, row by row and head by head, and a page widened.
pub(super) struct State<'a> {
    progress: &'a mut [SpanProgress],
    /// The mixed values so far, relative to the highest score: `[queries, head size in whole vectors]`.
    mixed: &'a mut [f32],
    /// `[head_dim, LANES]`.
    keys: &'a mut [f32],
    /// `[LANES, head size in whole vectors]`.
    values: &'a mut [f32],
}

impl Call<'_> {
    /// Returns the query heads that share a KV head.
    fn heads(&self) -> usize {
        self.shape.heads / self.shape.kv_heads
    }

    /// Returns how many queries of the span share a KV head.
    fn queries(&self) -> usize {
        self.span.rows * self.heads()
    }

    /// Returns a query of the span that has not begun: those of a KV head come one after the other.
    fn query(&self, number: usize) -> SpanProgress {
        let (kv_head, number) = (number / self.queries(), number % self.queries());
        let (row, head) = (number / self.heads(), number % self.heads());
        let head = ((self.kv_heads.start + kv_head) * self.heads() + head) * self.shape.head_dim;
        let row_of_all = self.span.first + row;
        SpanProgress {
            from: row_of_all * self.stride + head,
            to: row_of_all * self.shape.heads * self.shape.head_dim + head,
            position: self.span.start + row,
            highest: f32::NEG_INFINITY,
            totals: [0.0; LANES],
        }
    }
}

thread_local! {
    /// How far the queries of a span have come; the memory stays with the thread.
    static PROGRESS: RefCell<Vec<SpanProgress>> = RefCell::default();
}

/// Computes the attention of a span.
pub(super) fn attend<T: Attended>(isa: Isa, call: &Call<'_>, kept: &Kept<T>) {
    let queries = call.queries() * call.kv_heads.len();
    PROGRESS.with_borrow_mut(|progress| {
        progress.clear();
        progress.extend((0..queries).map(|number| call.query(number)));
        with_space(|space| attend_in(isa, call, kept, progress, space));
    });
}

fn attend_in<T: Attended>(isa: Isa, call: &Call<'_>, kept: &Kept<T>, progress: &mut [SpanProgress], space: &mut Space) {
    let head_dim = call.shape.head_dim;
    let width = head_dim.next_multiple_of(LANES);
    let Space { widened, sums, .. } = space;
    sums.resize(progress.len() * width);
    sums.fill(0.0);
    // What fills up a row of values stays zero.
    widened.resize((head_dim + width) * LANES);
    widened.fill(0.0);
    let (keys, values) = widened.split_at_mut(head_dim * LANES);
    let mut state = State {
        progress,
        mixed: sums,
        keys,
        values,
    };
    T::pages(isa, call, kept, &mut state);
    for (query, mixed) in state.progress.iter().zip(state.mixed.chunks_exact(width)) {
        // SAFETY: each row and head is the work of one task, and its only part.
        let out = unsafe { call.out.part(query.to, head_dim) };
        let scale = 1.0 / query.totals.iter().sum::<f32>();
        out.iter_mut().zip(mixed).for_each(|(out, mixed)| *out = mixed * scale);
    }
}

/// One page as the queries see it.
struct Page<'a, K> {
    /// `[head_dim, LANES]`.
    keys: *const K,
    /// `[LANES, stride]`.
    values: *const K,
    stride: usize,
    key_scales: Option<&'a [f32]>,
    value_scales: Option<&'a [f32]>,
    /// The position of its first token.
    start: usize,
    /// Keys and values that are read next: asked for meanwhile, line by line, as only so many can be on their way at once.
    next: [*const K; 2],
}

#[inline(always)]
fn through_pages<V: Vector, T: Cell>(call: &Call<'_>, kept: &Kept<T>, state: &mut State<'_>) {
    let Call {
        shape, span, kv_heads, ..
    } = call;
    let head_dim = shape.head_dim;
    let (queries, len) = (call.queries(), PAGE_TOKENS * head_dim);
    let last = span.start + span.rows - 1;
    let first = shape.first_seen(span.start) / PAGE_TOKENS;
    let pages = &span.pages[first..=last / PAGE_TOKENS];
    // Page by page, of each one head after the other: as they lie in memory.
    let place = |step: usize| {
        let page = pages.get(step / kv_heads.len());
        page.map(|page| *page as usize * shape.kv_heads + kv_heads.start + step % kv_heads.len())
    };
    for step in 0..pages.len() * kv_heads.len() {
        let number = place(step).expect("a page of each step");
        let next = place(step + 1).unwrap_or(number);
        let (keys, values) = (&kept.keys[number * len..][..len], &kept.values[number * len..][..len]);
        let next = [&kept.keys[next * len..][..len], &kept.values[next * len..][..len]];
        let scales = |scales| {
            T::SCALED.then(|| -> &[f32] {
                let scales: &Reserved<f32> = scales;
                &scales[number * LANES..][..LANES]
            })
        };
        let (key_scales, value_scales) = (scales(&kept.key_scales), scales(&kept.value_scales));
        let start = (first + step / kv_heads.len()) * PAGE_TOKENS;
        let begin = step % kv_heads.len() * queries;
        if head_dim.is_multiple_of(LANES) && queries <= TILE {
            // For one tile it is not worth while to widen first.
            let page = Page {
                keys: keys.as_ptr(),
                values: values.as_ptr(),
                stride: head_dim,
                key_scales,
                value_scales,
                start,
                next: next.map(<[T]>::as_ptr),
            };
            through_queries::<V, T, true>(call, &page, state, begin);
            continue;
        }
        let stride = head_dim.next_multiple_of(LANES);
        widen::<V, T>(keys, next[0], state.keys);
        let rows = values.chunks_exact(head_dim).zip(next[1].chunks_exact(head_dim));
        for ((values, next), wide) in rows.zip(state.values.chunks_exact_mut(stride)) {
            widen::<V, T>(values, next, wide);
        }
        let page = Page {
            keys: state.keys.as_ptr(),
            values: state.values.as_ptr(),
            stride,
            key_scales,
            value_scales,
            start,
            next: [std::ptr::null(); 2],
        };
        through_queries::<V, f32, false>(call, &page, state, begin);
    }
}

/// Widens cells into the first of `to`, and asks for as many that are read next.
#[inline(always)]
fn widen<V: Vector, T: Cell>(cells: &[T], next: &[T], to: &mut [f32]) {
    let (whole, rest) = cells.as_chunks::<LANES>();
    let (wide, last) = to.split_at_mut(whole.len() * LANES);
    let ahead = next.chunks_exact(LANES);
    for (index, ((cells, next), to)) in whole.iter().zip(ahead).zip(wide.as_chunks_mut::<LANES>().0).enumerate() {
        // SAFETY: both are sixteen values; to ask for memory does not touch it.
        unsafe {
            if (index * LANES).is_multiple_of(LINE / size_of::<T>()) {
                V::prefetch(next.as_ptr());
            }
            V::store(to.as_mut_ptr(), T::load::<V>(cells.as_ptr()));
        }
    }
    if !rest.is_empty() {
        let (mut padded, mut wide) = ([T::default(); LANES], [0.0; LANES]);
        padded[..rest.len()].copy_from_slice(rest);
        // SAFETY: both are sixteen values.
        unsafe { V::store(wide.as_mut_ptr(), T::load::<V>(padded.as_ptr())) };
        last[..rest.len()].copy_from_slice(&wide[..rest.len()]);
    }
}

#[inline(always)]
fn through_queries<V: Vector, K: Cell, const AHEAD: bool>(
    call: &Call<'_>,
    page: &Page<'_, K>,
    state: &mut State<'_>,
    begin: usize,
) {
    let (mut query, end) = (begin, begin + call.queries());
    while query < end {
        let count = TILE.min(end - query);
        match count {
            1 => tile::<V, K, AHEAD, 1>(call, page, state, query),
            2 => tile::<V, K, AHEAD, 2>(call, page, state, query),
            3 => tile::<V, K, AHEAD, 3>(call, page, state, query),
            _ => tile::<V, K, AHEAD, TILE>(call, page, state, query),
        }
        query += count;
    }
}

/// Takes `QUERIES` queries through a page; asks for the next one meanwhile where it is `AHEAD`.
#[inline(always)]
fn tile<V: Vector, K: Cell, const AHEAD: bool, const QUERIES: usize>(
    call: &Call<'_>,
    page: &Page<'_, K>,
    state: &mut State<'_>,
    query: usize,
) {
    let width = call.shape.head_dim.next_multiple_of(LANES);
    let progress = &mut state.progress[query..query + QUERIES];
    let mixed = &mut state.mixed[query * width..][..QUERIES * width];
    let mut shares = [[0.0; LANES]; QUERIES];
    scores::<V, K, AHEAD, QUERIES>(call, page, progress, &mut shares);
    let mut whole = true;
    let each = shares.iter_mut().zip(&mut *progress).zip(mixed.chunks_exact_mut(width));
    for ((shares, progress), mixed) in each {
        let seen = seen(call.shape, page.start, progress.position);
        whole &= seen.len() == LANES;
        if let Some(shrink) = share::<V>(call.shape, page.key_scales, seen, shares, progress) {
            mixed.iter_mut().for_each(|mixed| *mixed *= shrink);
        }
        if let Some(scales) = page.value_scales {
            shares.iter_mut().zip(scales).for_each(|(share, scale)| *share *= scale);
        }
    }
    if whole {
        mix::<V, K, AHEAD, QUERIES>(page, &shares, 0..LANES, mixed);
        return;
    }
    // What a query does not see may hold anything.
    for ((shares, progress), mixed) in shares.iter().zip(progress).zip(mixed.chunks_exact_mut(width)) {
        let seen = seen(call.shape, page.start, progress.position);
        mix::<V, K, false, 1>(page, std::array::from_ref(shares), seen, mixed);
    }
}

/// Returns which tokens of a page a position sees.
#[inline(always)]
fn seen(shape: Shape, start: usize, position: usize) -> Range<usize> {
    let end = (position + 1).saturating_sub(start).min(PAGE_TOKENS);
    shape.first_seen(position).saturating_sub(start).min(end)..end
}

/// Computes the products of queries and a page's keys: two sums, over the even and over the odd elements of a head.
#[inline(always)]
fn scores<V: Vector, K: Cell, const AHEAD: bool, const QUERIES: usize>(
    call: &Call<'_>,
    page: &Page<'_, K>,
    queries: &[SpanProgress],
    scores: &mut [[f32; LANES]; QUERIES],
) {
    let head_dim = call.shape.head_dim;
    let mut heads = [&call.queries[..0]; QUERIES];
    for (head, query) in heads.iter_mut().zip(queries) {
        *head = &call.queries[query.from..][..head_dim];
    }
    // SAFETY: heads are `head_dim` long, and a page has sixteen keys for each element of a head.
    unsafe {
        let mut sums = [[V::splat(0.0); 2]; QUERIES];
        for pair in 0..head_dim / 2 {
            for odd in 0..2 {
                let d = 2 * pair + odd;
                if AHEAD && (d * LANES).is_multiple_of(LINE / size_of::<K>()) {
                    V::prefetch(page.next[0].wrapping_add(d * LANES));
                }
                let keys = K::load::<V>(page.keys.add(d * LANES));
                for at in 0..QUERIES {
                    sums[at][odd] = V::fma(V::splat(*heads[at].get_unchecked(d)), keys, sums[at][odd]);
                }
            }
        }
        if !head_dim.is_multiple_of(2) {
            let d = head_dim - 1;
            let keys = K::load::<V>(page.keys.add(d * LANES));
            for at in 0..QUERIES {
                sums[at][0] = V::fma(V::splat(*heads[at].get_unchecked(d)), keys, sums[at][0]);
            }
        }
        for at in 0..QUERIES {
            let sum = V::fma(V::splat(1.0), sums[at][0], sums[at][1]);
            V::store(scores[at].as_mut_ptr(), sum);
        }
    }
}

/// Turns a page's products into shares, relative to the highest score so far; returns by what all that was before shrinks,
/// when the highest is a new one.
#[inline(always)]
fn share<V: Vector>(
    shape: Shape,
    key_scales: Option<&[f32]>,
    seen: Range<usize>,
    shares: &mut [f32; LANES],
    progress: &mut SpanProgress,
) -> Option<f32> {
    if seen.is_empty() {
        *shares = [0.0; LANES];
        return None;
    }
    if let Some(scales) = key_scales {
        shares.iter_mut().zip(scales).for_each(|(score, scale)| *score *= scale);
    }
    shares.iter_mut().for_each(|score| *score *= shape.scale);
    if let Some(cap) = shape.cap {
        shares.iter_mut().for_each(|score| *score = cap * tanh(*score / cap));
    }
    hide(shares, &seen, f32::NEG_INFINITY);
    // SAFETY: there are sixteen shares.
    let top = progress
        .highest
        .max(unsafe { V::largest_float(V::load(shares.as_ptr())) });
    let mut shrink = None;
    if top != progress.highest {
        let factor = match progress.highest {
            f32::NEG_INFINITY => 0.0,
            highest => exp(highest - top),
        };
        progress.totals.iter_mut().for_each(|total| *total *= factor);
        progress.highest = top;
        shrink = Some(factor);
    }
    shares.iter_mut().for_each(|share| *share = exp(*share - top));
    hide(shares, &seen, 0.0);
    progress
        .totals
        .iter_mut()
        .zip(shares)
        .for_each(|(total, share)| *total += *share);
    shrink
}

/// Replaces what belongs to tokens that are not seen.
#[inline(always)]
fn hide(shares: &mut [f32; LANES], seen: &Range<usize>, with: f32) {
    if seen.len() < LANES {
        shares[..seen.start].fill(with);
        shares[seen.end..].fill(with);
    }
}

/// Adds the values of some tokens, each times its share, to what was mixed: `[QUERIES, head size in whole vectors]`.
#[inline(always)]
fn mix<V: Vector, K: Cell, const AHEAD: bool, const QUERIES: usize>(
    page: &Page<'_, K>,
    shares: &[[f32; LANES]; QUERIES],
    tokens: Range<usize>,
    mixed: &mut [f32],
) {
    let width = mixed.len() / QUERIES;
    let mut at = 0;
    while at < width {
        if V::MANY_REGISTERS && width - at >= 4 * LANES {
            mix_columns::<V, K, AHEAD, QUERIES, 4>(page, shares, tokens.clone(), mixed, at);
            at += 4 * LANES;
        } else {
            mix_columns::<V, K, AHEAD, QUERIES, 1>(page, shares, tokens.clone(), mixed, at);
            at += LANES;
        }
    }
}

#[inline(always)]
fn mix_columns<V: Vector, K: Cell, const AHEAD: bool, const QUERIES: usize, const VECTORS: usize>(
    page: &Page<'_, K>,
    shares: &[[f32; LANES]; QUERIES],
    tokens: Range<usize>,
    mixed: &mut [f32],
    at: usize,
) {
    let width = mixed.len() / QUERIES;
    assert!(
        at + VECTORS * LANES <= width && tokens.end <= LANES,
        "columns of values"
    );
    // SAFETY: the columns lie within `mixed`, as was just checked, and within the page's rows, which are as wide.
    unsafe {
        let mixed = mixed.as_mut_ptr();
        let mut sums = [[V::splat(0.0); VECTORS]; QUERIES];
        for query in 0..QUERIES {
            for vector in 0..VECTORS {
                sums[query][vector] = V::load(mixed.add(query * width + at + vector * LANES));
            }
        }
        for token in tokens {
            let mut values = [V::splat(0.0); VECTORS];
            for vector in 0..VECTORS {
                if AHEAD && (vector * LANES).is_multiple_of(LINE / size_of::<K>()) {
                    V::prefetch(page.next[1].wrapping_add(token * page.stride + at + vector * LANES));
                }
                values[vector] = K::load::<V>(page.values.add(token * page.stride + at + vector * LANES));
            }
            for query in 0..QUERIES {
                let share = V::splat(shares[query][token]);
                for vector in 0..VECTORS {
                    sums[query][vector] = V::fma(share, values[vector], sums[query][vector]);
                }
            }
        }
        for query in 0..QUERIES {
            for vector in 0..VECTORS {
                V::store(mixed.add(query * width + at + vector * LANES), sums[query][vector]);
            }
        }
    }
}
