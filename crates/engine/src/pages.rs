//! Pages of KV memory: who holds them, and what they hold that others may reuse.

use std::collections::{BTreeMap, HashMap};

/// What a full page holds, given all pages before it: equal keys mean equal contents.
pub type ChainKey = [u8; 16];

/// Returns the key of nothing yet, for everything that must match before two sequences may share: the build, the KV
/// precision, the adapter, and a cache_scope that keeps callers apart.
pub fn chain_start(scope: &[&[u8]]) -> ChainKey {
    let mut hasher = blake3::Hasher::new();
    for part in scope {
        hasher.update(&(part.len() as u64).to_le_bytes());
        hasher.update(part);
    }
    shorten(hasher.finalize())
}

/// Returns the key of the page that holds `tokens` after the pages that `before` stands for.
pub fn chain_next(before: &ChainKey, tokens: &[u32]) -> ChainKey {
    let mut hasher = blake3::Hasher::new();
    hasher.update(before);
    for token in tokens {
        hasher.update(&token.to_le_bytes());
    }
    shorten(hasher.finalize())
}

fn shorten(hash: blake3::Hash) -> ChainKey {
    hash.as_bytes()[..16].try_into().expect("a hash has 32 bytes")
}

/// A fixed number of pages, reference-counted.
///
/// A page is *in use* while somebody holds it. A released page that was published stays *cached*, ready to be found again,
/// until it is the longest unused and a new page is wanted.
pub struct PagePool {
    holders: Vec<u32>,
    key_of: Vec<Option<ChainKey>>,
    published: HashMap<ChainKey, u32>,
    free: Vec<u32>,
    /// Cached pages by when they were released.
    cached: BTreeMap<u64, u32>,
    released_at: Vec<u64>,
    releases: u64,
}

impl PagePool {
    /// Returns a pool of `total` pages, all free.
    pub fn new(total: usize) -> PagePool {
        PagePool {
            holders: vec![0; total],
            key_of: vec![None; total],
            published: HashMap::new(),
            free: (0..total as u32).rev().collect(),
            cached: BTreeMap::new(),
            released_at: vec![0; total],
            releases: 0,
        }
    }

    /// Returns the number of pages.
    pub fn total(&self) -> usize {
        self.holders.len()
    }

    /// Returns the number of pages that somebody holds.
    pub fn in_use(&self) -> usize {
        self.total() - self.available()
    }

    /// Returns the number of pages that can be had: free and cached ones.
    pub fn available(&self) -> usize {
        self.free.len() + self.cached.len()
    }

    /// Returns the number of pages that nobody holds but that may be found again.
    pub fn cached(&self) -> usize {
        self.cached.len()
    }

    /// Takes a page for new contents, forgetting what the longest cached one held when no page is free.
    pub fn take(&mut self) -> Option<u32> {
        let page = match self.free.pop() {
            Some(page) => page,
            None => {
                let (_, page) = self.cached.pop_first()?;
                let key = self.key_of[page as usize].take().expect("a cached page is published");
                self.published.remove(&key);
                page
            }
        };
        self.holders[page as usize] = 1;
        Some(page)
    }

    /// Returns whether somebody holds a page.
    pub fn is_held(&self, page: u32) -> bool {
        self.holders[page as usize] > 0
    }

    /// Adds a holder to a page that is held already.
    ///
    /// # Panics
    /// When nobody holds it.
    pub fn hold(&mut self, page: u32) {
        assert!(self.holders[page as usize] > 0, "page {page} is nobody's");
        self.holders[page as usize] += 1;
    }

    /// Returns whether a page is published under a key.
    pub fn has(&self, key: &ChainKey) -> bool {
        self.published.contains_key(key)
    }

    /// Finds a published page and adds a holder.
    pub fn find(&mut self, key: &ChainKey) -> Option<u32> {
        let page = *self.published.get(key)?;
        if self.holders[page as usize] == 0 {
            self.cached.remove(&self.released_at[page as usize]);
        }
        self.holders[page as usize] += 1;
        Some(page)
    }

    /// Makes a full page findable. When another page with the same contents is, this one stays private.
    pub fn publish(&mut self, page: u32, key: ChainKey) {
        if self.key_of[page as usize].is_none() && !self.published.contains_key(&key) {
            self.key_of[page as usize] = Some(key);
            self.published.insert(key, page);
        }
    }

    /// Takes away one holder.
    ///
    /// # Panics
    /// When nobody holds the page.
    pub fn release(&mut self, page: u32) {
        let index = page as usize;
        assert!(self.holders[index] > 0, "page {page} released twice");
        self.holders[index] -= 1;
        if self.holders[index] > 0 {
            return;
        }
        if self.key_of[index].is_some() {
            self.releases += 1;
            self.released_at[index] = self.releases;
            self.cached.insert(self.releases, page);
        } else {
            self.free.push(page);
        }
    }

    /// Checks that every page is in exactly one place and every key leads to its page.
    ///
    /// # Panics
    /// When that does not hold.
    pub fn check(&self) {
        let held = self.holders.iter().filter(|holders| **holders > 0).count();
        assert_eq!(
            held + self.free.len() + self.cached.len(),
            self.total(),
            "a page is lost or counted twice"
        );
        assert!(
            self.free
                .iter()
                .all(|page| self.holders[*page as usize] == 0 && self.key_of[*page as usize].is_none())
        );
        assert!(self.cached.values().all(|page| self.holders[*page as usize] == 0));
        for (key, page) in &self.published {
            assert_eq!(self.key_of[*page as usize].as_ref(), Some(key));
        }
        assert_eq!(self.key_of.iter().flatten().count(), self.published.len());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_cached_page_is_found_again_until_it_is_needed() {
        let mut pool = PagePool::new(2);
        let key = chain_next(&chain_start(&[b"a"]), &[1, 2]);
        let page = pool.take().unwrap();
        pool.publish(page, key);
        pool.release(page);
        assert_eq!((pool.in_use(), pool.cached()), (0, 1));
        assert_eq!(pool.find(&key), Some(page));
        pool.release(page);
        pool.take().unwrap();
        pool.take().unwrap();
        assert_eq!((pool.find(&key), pool.take()), (None, None));
        pool.check();
    }

    #[test]
    fn keys_tell_scopes_and_order_apart() {
        assert_ne!(chain_start(&[b"ab", b"c"]), chain_start(&[b"a", b"bc"]));
        let start = chain_start(&[]);
        assert_ne!(
            chain_next(&chain_next(&start, &[1]), &[2]),
            chain_next(&chain_next(&start, &[2]), &[1])
        );
    }

    proptest! {
        #[test]
        fn random_histories_neither_lose_nor_double_a_page(acts in prop::collection::vec((0u8..5, 0usize..6), 1..200)) {
            let mut pool = PagePool::new(6);
            let mut held: Vec<u32> = Vec::new();
            for (act, n) in acts {
                let key = chain_next(&chain_start(&[]), &[n as u32]);
                match act {
                    0 => held.extend(pool.take()),
                    1 if !held.is_empty() => pool.release(held.swap_remove(n % held.len())),
                    2 if !held.is_empty() => pool.publish(held[n % held.len()], key),
                    3 => held.extend(pool.find(&key)),
                    4 if !held.is_empty() => {
                        let page = held[n % held.len()];
                        pool.hold(page);
                        held.push(page);
                    }
                    _ => {}
                }
                pool.check();
                let distinct: std::collections::BTreeSet<u32> = held.iter().copied().collect();
                prop_assert_eq!(pool.in_use(), distinct.len());
            }
        }
    }
}
