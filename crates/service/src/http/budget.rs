//! Memory that requests share: what one takes is not there for the others.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Bytes that many requests take from. No key gets more than half of them; callers without a key are not told apart and may have all.
/// Clones share the bytes.
#[derive(Clone)]
pub(crate) struct Budget {
    taken: Arc<Mutex<Taken>>,
    most: usize,
}

#[derive(Default)]
struct Taken {
    bytes: usize,
    /// By key.
    of_keys: HashMap<Arc<str>, usize>,
}

/// The bytes of one request, given back when this is dropped.
pub(crate) struct Share {
    budget: Budget,
    key: Arc<str>,
    bytes: usize,
}

impl Budget {
    pub fn new(most: usize) -> Budget {
        Budget {
            taken: Arc::default(),
            most,
        }
    }

    /// Returns a share of nothing for a request of a key, to be grown.
    pub fn share(&self, key: &Arc<str>) -> Share {
        Share {
            budget: self.clone(),
            key: key.clone(),
            bytes: 0,
        }
    }

    fn lock(&self) -> MutexGuard<'_, Taken> {
        self.taken.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Share {
    /// Takes more bytes, if they are there; returns whether they were.
    #[must_use]
    pub fn grow(&mut self, more: usize) -> bool {
        let mut taken = self.budget.lock();
        let most_of_key = match self.key.is_empty() {
            true => self.budget.most,
            false => self.budget.most / 2,
        };
        let own = taken.of_keys.get(&self.key).copied().unwrap_or(0);
        if taken.bytes + more > self.budget.most || own + more > most_of_key {
            return false;
        }
        taken.bytes += more;
        *taken.of_keys.entry(self.key.clone()).or_default() += more;
        self.bytes += more;
        true
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        if self.bytes == 0 {
            return;
        }
        let mut taken = self.budget.lock();
        taken.bytes -= self.bytes;
        if let Some(own) = taken.of_keys.get_mut(&self.key) {
            *own -= self.bytes;
            if *own == 0 {
                taken.of_keys.remove(&self.key);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_add_up_and_are_given_back() {
        let (budget, nobody) = (Budget::new(10), Arc::from(""));
        let (mut one, mut other) = (budget.share(&nobody), budget.share(&nobody));
        assert!(one.grow(6) && other.grow(4));
        assert!(!other.grow(1));
        drop(other);
        assert!(one.grow(4));
        drop(one);
        assert!(budget.lock().of_keys.is_empty());
    }

    #[test]
    fn half_of_a_budget_is_beyond_the_reach_of_any_one_key() {
        let (budget, many, one) = (Budget::new(10), Arc::from("many"), Arc::from("one"));
        let mut shares: Vec<Share> = (0..5).map(|_| budget.share(&many)).collect();
        assert!(shares.iter_mut().all(|share| share.grow(1)));
        assert!(!shares[0].grow(1) && !budget.share(&many).grow(1));
        assert!(budget.share(&one).grow(5));
        shares.pop();
        assert!(budget.share(&many).grow(1));
    }
}
