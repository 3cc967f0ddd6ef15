//! Parts of matrices.

use std::ops::Range;

/// Returns some rows, and of these some columns, of rows of `width`.
pub(crate) fn cut<T: Copy>(values: &[T], width: usize, rows: &[Range<usize>], columns: &Range<usize>) -> Vec<T> {
    let rows = rows.iter().cloned().flatten();
    rows.flat_map(|row| &values[row * width + columns.start..row * width + columns.end])
        .copied()
        .collect()
}
