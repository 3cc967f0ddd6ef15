//! Memory that requests share: what one takes is not there for the others.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Bytes that many requests take from. Clones share them.
#[derive(Clone)]
pub(crate) struct Budget {
    used: Arc<AtomicUsize>,
    most: usize,
}

/// What one request has taken, given back when it is dropped.
pub(crate) struct Share {
    budget: Budget,
    bytes: usize,
}

impl Budget {
    pub fn new(most: usize) -> Budget {
        Budget {
            used: Arc::default(),
            most,
        }
    }

    /// Returns a share of nothing, to be grown.
    pub fn share(&self) -> Share {
        Share {
            budget: self.clone(),
            bytes: 0,
        }
    }
}

impl Share {
    /// Takes more bytes; returns whether they were there.
    #[must_use]
    pub fn grow(&mut self, more: usize) -> bool {
        let before = self.budget.used.fetch_add(more, Ordering::AcqRel);
        self.bytes += more;
        before + more <= self.budget.most
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        self.budget.used.fetch_sub(self.bytes, Ordering::AcqRel);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_add_up_and_are_given_back() {
        let budget = Budget::new(10);
        let (mut one, mut other) = (budget.share(), budget.share());
        assert!(one.grow(6) && other.grow(4));
        assert!(!other.grow(1));
        drop(other);
        assert!(one.grow(4));
    }
}
