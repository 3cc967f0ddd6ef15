//! What matrices are applied to, gathered while a text is read.

use std::collections::BTreeMap;
use vastrelay_kernels::matmul::Dense;
use vastrelay_kernels::{Isa, PackedMatrix, ThreadPool, Write};

/// Sums of products of all pairs of inputs, for each matrix that was applied.
#[derive(Default)]
pub(super) struct Grams(pub BTreeMap<String, Vec<f32>>);

impl Grams {
    /// Adds rows that a matrix is applied to.
    pub fn take(&mut self, name: &str, isa: Isa, threads: &ThreadPool, x: &[f32], inputs: usize) {
        let rows = x.len() / inputs;
        if rows == 0 {
            return;
        }
        let mut columns = vec![0.0; x.len()];
        for (row, x) in x.chunks_exact(inputs).enumerate() {
            for (input, value) in x.iter().enumerate() {
                columns[input * rows + row] = *value;
            }
        }
        let gram = self
            .0
            .entry(name.to_owned())
            .or_insert_with(|| vec![0.0; inputs * inputs]);
        PackedMatrix::pack(&[Dense::F32(&columns)], rows).apply(isa, threads, &columns, gram, Write::Add);
    }
}
