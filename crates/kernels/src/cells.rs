//! Memory that a matrix reads: its own, or somebody else's, such as a file's.

use crate::Aligned;
use bytemuck::Pod;
use std::ops::Deref;
use std::sync::Arc;

/// Values that do not change.
pub enum Cells<T: 'static> {
    /// The matrix's own.
    Owned(Aligned<T>),
    /// Lent by something that keeps them as long as they are read.
    Lent(Arc<dyn AsRef<[T]> + Send + Sync>),
}

impl<T: Pod> Deref for Cells<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        match self {
            Cells::Owned(values) => values,
            Cells::Lent(values) => (**values).as_ref(),
        }
    }
}

impl<T> From<Aligned<T>> for Cells<T> {
    fn from(values: Aligned<T>) -> Cells<T> {
        Cells::Owned(values)
    }
}
