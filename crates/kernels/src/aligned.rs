//! Memory that begins where a line of the cache does, so that no vector of it lies in two.

use bytemuck::Pod;
use std::marker::PhantomData;
use std::ops::{Deref, DerefMut};

/// Bytes of a line of the cache.
pub(crate) const LINE: usize = 64;

/// Values that begin at a line of the cache.
pub struct Aligned<T> {
    /// As long as the values, and a line more.
    memory: Vec<u8>,
    /// Where in it they begin.
    begin: usize,
    len: usize,
    kind: PhantomData<T>,
}

impl<T: Pod> Aligned<T> {
    /// Returns so many zeros. The system may give the memory when it is first written.
    pub fn zeros(len: usize) -> Aligned<T> {
        let memory = vec![0; len * size_of::<T>() + LINE];
        Aligned {
            begin: memory.as_ptr().align_offset(LINE),
            memory,
            len,
            kind: PhantomData,
        }
    }

    /// Makes it so long; what it holds then may be anything.
    pub(crate) fn resize(&mut self, len: usize) {
        if self.memory.len() < len * size_of::<T>() + LINE {
            *self = Aligned::zeros(len);
        }
        self.len = len;
    }
}

impl<T> Default for Aligned<T> {
    fn default() -> Aligned<T> {
        Aligned {
            memory: Vec::new(),
            begin: 0,
            len: 0,
            kind: PhantomData,
        }
    }
}

impl<T: Pod> Deref for Aligned<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        bytemuck::cast_slice(&self.memory[self.begin..][..self.len * size_of::<T>()])
    }
}

impl<T: Pod> DerefMut for Aligned<T> {
    fn deref_mut(&mut self) -> &mut [T] {
        bytemuck::cast_slice_mut(&mut self.memory[self.begin..][..self.len * size_of::<T>()])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_begins_at_a_line_and_is_as_long_as_it_was_made() {
        for len in [0, 1, 15, 16, 17, 1000] {
            let mut values = Aligned::<f32>::zeros(len);
            assert!(values.iter().all(|value| *value == 0.0) && values.len() == len);
            assert!(len == 0 || (values.as_ptr() as usize).is_multiple_of(64));
            values.resize(2 * len);
            values.fill(1.0);
            assert_eq!(values.iter().sum::<f32>(), 2.0 * len as f32);
        }
    }
}
