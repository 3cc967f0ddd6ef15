//! Zeroed memory that is reserved at once and given by the system when it is first written, or touched ahead of that.

use bytemuck::Pod;
use memmap2::{Advice, MmapMut, MmapRaw};
use std::io;
use std::marker::PhantomData;
use std::ops::{Deref, DerefMut};
use std::sync::{Arc, Weak};

/// Values in memory of their own, which begins at a page of the system's.
pub struct Reserved<T> {
    map: Arc<MmapRaw>,
    len: usize,
    kind: PhantomData<T>,
}

/// Reserved memory as somebody sees it who only touches it.
#[derive(Clone)]
pub struct Untouched {
    map: Weak<MmapRaw>,
    bytes: usize,
}

impl<T: Pod> Reserved<T> {
    /// Returns so many zeros.
    ///
    /// # Panics
    /// When the system has not even the addresses for them.
    pub fn zeros(len: usize) -> Reserved<T> {
        // Nothing cannot be mapped.
        let bytes = (len * size_of::<T>()).max(1);
        let map = MmapMut::map_anon(bytes).unwrap_or_else(|error| panic!("{bytes} bytes cannot be reserved: {error}"));
        Reserved {
            map: Arc::new(map.into()),
            len,
            kind: PhantomData,
        }
    }

    /// Returns a view for somebody who touches it; the memory does not live longer for that.
    pub fn untouched(&self) -> Untouched {
        Untouched {
            map: Arc::downgrade(&self.map),
            bytes: self.len * size_of::<T>(),
        }
    }
}

impl<T: Pod> Deref for Reserved<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        // SAFETY: the map has room for `len` values, begins at a page and so at a multiple of any value's alignment, and holds zeros
        // or what was written through `deref_mut`; any bytes are a `Pod`. It is mapped as long as `self.map` lives. Only `self` writes
        // to it: `Untouched` never reads or writes, it asks the system for pages, which does not change what they hold.
        unsafe { std::slice::from_raw_parts(self.map.as_ptr().cast(), self.len) }
    }
}

impl<T: Pod> DerefMut for Reserved<T> {
    fn deref_mut(&mut self) -> &mut [T] {
        // SAFETY: as for `deref`; `self` is borrowed mutably, and nobody else has access to the values.
        unsafe { std::slice::from_raw_parts_mut(self.map.as_mut_ptr().cast(), self.len) }
    }
}

impl Untouched {
    /// Returns how many bytes it is.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Makes the system give the memory of up to `most` bytes from a place on, whatever is done to it meanwhile; returns how many
    /// bytes it gave, which is none at the end, and none when the memory is not reserved any more.
    ///
    /// # Errors
    /// What the system says: it has no memory left, or does not know how to give it ahead of use.
    pub fn touch(&self, from: usize, most: usize) -> io::Result<usize> {
        let Some(map) = self.map.upgrade() else { return Ok(0) };
        let bytes = most.min(self.bytes.saturating_sub(from));
        if bytes > 0 {
            map.advise_range(Advice::PopulateWrite, from, bytes)?;
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn touching_changes_nothing_and_ends_with_the_memory() {
        let mut reserved = Reserved::<u32>::zeros(100_000);
        reserved[7] = 5;
        reserved[99_999] = 9;
        let untouched = reserved.untouched();
        let mut at = 0;
        // A system that cannot give memory ahead of use says so.
        while let Ok(given @ 1..) = untouched.touch(at, 65_536) {
            at += given;
        }
        assert!(at == 400_000 || untouched.touch(0, 1).is_err());
        assert_eq!((reserved[7], reserved[99_999], reserved[8]), (5, 9, 0));
        assert_eq!(reserved.iter().filter(|value| **value > 0).count(), 2);
        drop(reserved);
        assert_eq!(untouched.touch(0, 1).unwrap(), 0);
        assert!(Reserved::<f32>::zeros(0).is_empty());
    }
}
