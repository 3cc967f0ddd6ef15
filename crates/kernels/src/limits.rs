//! What this machine can do at most: the measure of all kernels.
//!
//! Each function does a known amount of work on all cores of a pool and returns it, so that a caller who takes the time knows the
//! limit.

use crate::LANES;
use crate::isa::{Isa, for_each_isa};
use crate::thread_pool::ThreadPool;
use crate::tiling::part_of;
use crate::vector::BLOCK;
use std::hint::black_box;

/// Multiplies and adds 32-bit floats in registers, `times` times; returns the floating-point operations: two for each.
pub fn multiply_adds(isa: Isa, threads: &ThreadPool, times: usize) -> f64 {
    threads.run(threads.cores(), &|_| {
        black_box(fma_loop(isa, black_box(times)));
    });
    2.0 * (threads.cores() * times * CHAINS * LANES) as f64
}

/// Multiplies bytes and adds them up in registers, `times` times; returns the operations: two for each product.
pub fn dot_products(isa: Isa, threads: &ThreadPool, times: usize) -> f64 {
    threads.run(threads.cores(), &|_| {
        black_box(dot_loop(isa, black_box(times)));
    });
    2.0 * (threads.cores() * times * CHAINS * BLOCK) as f64
}

/// Reads memory from its start to its end, once; returns the bytes.
pub fn read(isa: Isa, threads: &ThreadPool, memory: &[f32]) -> f64 {
    let tasks = threads.cores() * 4;
    threads.run(tasks, &|task| {
        let (begin, len) = part_of(memory.len(), tasks, task);
        black_box(sum(isa, &memory[begin..begin + len]));
    });
    size_of_val(memory) as f64
}

/// Independent sums: enough to hide the latency of one instruction, few enough for the registers.
const CHAINS: usize = 12;

for_each_isa! {
    fn fma_loop<V>(times: usize) -> [f32; LANES] {
        // SAFETY: the array is as long as what is written.
        unsafe {
            let (a, b) = (V::splat(black_box(0.999)), V::splat(black_box(1e-3)));
            let mut sums = [V::splat(0.5); CHAINS];
            for _ in 0..times {
                for chain in 0..CHAINS {
                    sums[chain] = V::fma(sums[chain], a, b);
                }
            }
            let mut total = V::splat(0.0);
            for sum in sums {
                total = V::fma(sum, a, total);
            }
            let mut out = [0.0; LANES];
            V::store(out.as_mut_ptr(), total);
            out
        }
    }
}

for_each_isa! {
    fn dot_loop<V>(times: usize) -> [f32; LANES] {
        let (block, quad) = (black_box([3u8; BLOCK]), black_box([-2i8; 4]));
        // SAFETY: the arrays are as long as what is read and written.
        unsafe {
            let (block, quad) = (V::block(block.as_ptr()), V::quad(quad.as_ptr()));
            let mut sums = [V::splat_whole(0); CHAINS];
            for _ in 0..times {
                for chain in 0..CHAINS {
                    sums[chain] = V::dot(sums[chain], block, quad);
                }
            }
            let mut total = V::splat(0.0);
            for sum in sums {
                total = V::fma(V::to_floats(sum), V::splat(1.0), total);
            }
            let mut out = [0.0; LANES];
            V::store(out.as_mut_ptr(), total);
            out
        }
    }
}

for_each_isa! {
    fn sum<V>(memory: &[f32]) -> [f32; LANES] {
        // SAFETY: chunks are four vectors long, and the array is one.
        unsafe {
            let mut sums = [V::splat(0.0); 4];
            for chunk in memory.chunks_exact(4 * LANES) {
                for vector in 0..4 {
                    sums[vector] = V::fma(V::load(chunk.as_ptr().add(vector * LANES)), V::splat(1.0), sums[vector]);
                }
            }
            let mut out = [0.0; LANES];
            let total = V::fma(V::splat(1.0), sums[0], V::fma(V::splat(1.0), sums[1], V::fma(V::splat(1.0), sums[2], sums[3])));
            V::store(out.as_mut_ptr(), total);
            out
        }
    }
}
