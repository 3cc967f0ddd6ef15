//! Attention alone, by what keys and values are kept as.

use crate::Machine;
use crate::alternate::{Gauge, Subject, alternate};
use crate::report::{Cell, Report};
use crate::statistics::{median, times_as_fast};
use std::time::Instant;
use vastrelay_kernels::ThreadPool;
use vastrelay_kernels::attention::{KvPrecision, LayerPages, PAGE_TOKENS, Shape, Spans};

const SHAPE: Shape = Shape {
    heads: 9,
    kv_heads: 3,
    head_dim: 64,
    scale: 0.125,
    cap: None,
    window: None,
};
/// As many as do not fit into the cache together.
const LAYERS: usize = 12;
const CACHED: usize = 512;
/// Pages of a sequence.
const PAGES: usize = CACHED / PAGE_TOKENS + 1;
const MOST_SEQUENCES: usize = 32;
const PRECISIONS: [KvPrecision; 3] = [KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8];

/// The memory of all sequences in all layers.
fn filled(precision: KvPrecision, threads: &ThreadPool) -> Vec<LayerPages> {
    let stride = (SHAPE.heads + 2 * SHAPE.kv_heads) * SHAPE.head_dim;
    let tables = tables(MOST_SEQUENCES);
    let layer = |layer: usize| {
        let mut pages = LayerPages::new(MOST_SEQUENCES * PAGES, SHAPE, precision);
        let mut rows: Vec<f32> = (0..CACHED * stride)
            .map(|at| ((at + layer) as f32 * 0.37).sin())
            .collect();
        for table in &tables {
            let spans = Spans::new([(0, CACHED, table.as_slice())]);
            pages.store(
                threads,
                &spans,
                &mut rows,
                stride,
                SHAPE.heads * SHAPE.head_dim,
                &|_, _| (),
            );
        }
        pages
    };
    (0..LAYERS).map(layer).collect()
}

/// Pages of each sequence.
fn tables(sequences: usize) -> Vec<Vec<u32>> {
    let table = |sequence: usize| {
        (sequence * PAGES..(sequence + 1) * PAGES)
            .map(|page| page as u32)
            .collect()
    };
    (0..sequences).map(table).collect()
}

/// Measures one token of several sequences in all precisions against 32-bit floats.
pub fn measure(machine: Machine, threads: &ThreadPool, report: &mut Report) {
    let gauge = Gauge::new(machine);
    let memories = PRECISIONS.map(|precision| filled(precision, threads));
    let stride = SHAPE.heads * SHAPE.head_dim;
    for sequences in [1, 8, 32] {
        eprintln!("attention alone, {sequences} sequences");
        let tables = tables(sequences);
        let spans = Spans::new(tables.iter().map(|table| (CACHED - 1, 1, table.as_slice())));
        let queries: Vec<f32> = (0..sequences * stride).map(|at| (at as f32 * 0.53).sin()).collect();
        let mut subjects: Vec<Subject<'_>> = memories
            .iter()
            .map(|layers| {
                let (spans, queries, mut out) = (&spans, &queries, vec![0.0; sequences * stride]);
                let once = move || {
                    let begun = Instant::now();
                    for layer in layers {
                        layer.attend(machine.isa, threads, spans, queries, stride, &mut out);
                    }
                    begun.elapsed().as_secs_f64()
                };
                Box::new(many(once)) as Subject<'_>
            })
            .collect();
        let outcome = alternate(&gauge, machine.rounds, &mut subjects);
        drop(subjects);
        let (floats, others) = outcome.seconds.split_first().expect("a subject for each precision");
        for (precision, seconds) in PRECISIONS[1..].iter().zip(others) {
            report.add(Cell {
                model: "attention, 135M".into(),
                work: format!("decode {sequences} at {CACHED}"),
                subject: precision.name().into(),
                against: "keys, values in f32".into(),
                aim: Some(1.0),
                must_hold: None,
                subject_seconds: median(seconds),
                against_seconds: median(floats),
                ratios: times_as_fast(seconds, floats),
                drifted: outcome.drifted,
                phases: Vec::new(),
            });
        }
    }
}

/// Returns the mean seconds of as many times as can be measured.
fn many(mut once: impl FnMut() -> f64) -> impl FnMut() -> f64 {
    move || {
        const TIMES: usize = 12;
        (0..TIMES).map(|_| once()).sum::<f64>() / TIMES as f64
    }
}
