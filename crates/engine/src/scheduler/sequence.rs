//! One sequence, as the scheduler sees it.

use super::{Arrival, PlannedRow, PoolLimits, SequenceId};
use crate::executor::{TableChange, TableChanges};
use crate::micros::Micros;
use crate::pages::{ChainKey, PagePool, chain_next};
use crate::queue::Rank;
use smallvec::{SmallVec, smallvec};
use vastrelay_kernels::attention::PAGE_TOKENS;

/// Prompt tokens of younger sequences that may pass one that has computed nothing yet.
const MOST_PASSED: usize = 256;
/// They may pass one more for this many tokens that it has computed.
const PASSED_SHARE: usize = 8;

pub(super) struct Sequence {
    pub rank: Rank,
    /// Prompt, then what was produced.
    pub tokens: Vec<u32>,
    pub prompt: usize,
    pub most_tokens: usize,
    pub deadline: Option<Micros>,
    pub fork_of: Option<SequenceId>,
    pub awaits_constraint: bool,
    pub drafts: usize,
    pub lane: Option<usize>,
    /// Its pages in each pool; all tables are equally long.
    pub tables: Vec<Table>,
    /// Tokens whose keys and values lie in the pages.
    pub computed: usize,
    /// Prompt tokens of younger sequences that were computed before its own prompt was done.
    pub passed: usize,
    /// How many of its first tokens may be taken from the cache.
    reusable: usize,
    /// Pages that were published.
    pub published: usize,
    pub scope: ChainKey,
    /// The keys of its full pages, as far as they were asked for.
    keys: Vec<ChainKey>,
}

/// The pages of a sequence in one pool.
#[derive(Clone, Default)]
pub(super) struct Table {
    pub pages: Vec<u32>,
    /// How many of the first pages were given back, as they are not seen any more.
    pub unseen: usize,
    /// How many of the first pages are the same in the executor's table, and how long that is.
    known: usize,
    told: usize,
}

impl Table {
    /// Returns a table for another sequence with the same first pages.
    pub fn fork(&self, pages: usize) -> Table {
        Table {
            pages: self.pages[..pages].to_vec(),
            unseen: self.unseen,
            known: 0,
            told: 0,
        }
    }

    /// Returns whether the executor's table is the same.
    fn is_in_step(&self) -> bool {
        self.known == self.pages.len() && self.told == self.pages.len()
    }

    /// Returns how the executor's table becomes the same, and takes it for done.
    fn change(&mut self) -> TableChange {
        let keep = std::mem::replace(&mut self.known, self.pages.len());
        self.told = self.pages.len();
        TableChange {
            keep,
            pages: self.pages[keep..].into(),
        }
    }

    /// Returns the pages that the sequence holds.
    pub fn held(&self) -> &[u32] {
        &self.pages[self.unseen..]
    }
}

impl Sequence {
    pub fn new(arrival: Arrival, rank: Rank, pools: usize) -> Sequence {
        assert!(
            !arrival.prompt.is_empty() && arrival.most_output > arrival.emitted.len(),
            "something to read and something to say"
        );
        let prompt = arrival.prompt.len();
        let mut tokens = arrival.prompt;
        tokens.extend(arrival.emitted);
        Sequence {
            rank,
            prompt,
            most_tokens: prompt + arrival.most_output,
            tokens,
            deadline: arrival.deadline,
            fork_of: arrival.fork_of,
            awaits_constraint: arrival.awaits_constraint,
            drafts: arrival.drafts,
            lane: None,
            tables: vec![Table::default(); pools],
            computed: 0,
            passed: 0,
            reusable: if arrival.reads_all { 0 } else { usize::MAX },
            published: 0,
            scope: arrival.scope,
            keys: Vec::new(),
        }
    }

    /// Returns how the executor's tables become the same, and takes it for done: one change for each pool, or nothing where all are.
    pub fn table_changes(&mut self) -> TableChanges {
        match self.tables.iter().all(Table::is_in_step) {
            true => TableChanges::new(),
            false => self.tables.iter_mut().map(Table::change).collect(),
        }
    }

    /// Returns how many tokens its pages have room for, those that were given back included.
    pub fn room(&self) -> usize {
        self.tables[0].pages.len() * PAGE_TOKENS
    }

    /// Returns how many pages more it needs in each pool to decode so many tokens.
    pub fn pages_for(&self, tokens: usize) -> usize {
        (self.computed + tokens)
            .div_ceil(PAGE_TOKENS)
            .saturating_sub(self.tables[0].pages.len())
    }

    /// Returns how many tokens it has produced.
    pub fn output(&self) -> usize {
        self.tokens.len() - self.prompt
    }

    /// Returns whether younger sequences have passed it as often as they may: what it has lost to them stays a small part of
    /// what it has computed.
    pub fn is_aged(&self) -> bool {
        self.passed >= MOST_PASSED + self.computed / PASSED_SHARE
    }

    /// Returns how many tokens are still to be computed; the last of them makes the next token.
    pub fn to_compute(&self) -> usize {
        self.tokens.len() - self.computed
    }

    /// Returns whether its next row produces a token out of the one before.
    pub fn decodes(&self) -> bool {
        self.to_compute() == 1 && self.computed >= self.prompt
    }

    /// Returns the drafts a decode row may carry without outgrowing the sequence.
    pub fn draft_room(&self) -> usize {
        self.drafts.min(self.most_tokens - self.tokens.len() - 1)
    }

    /// Returns whether so many of its first tokens may be taken from others.
    pub fn may_reuse(&self, tokens: usize) -> bool {
        tokens <= self.reusable
    }

    /// Takes in what a row computed and produced.
    pub fn advance(&mut self, row: &PlannedRow, tokens: &[u32]) {
        self.computed = row.start + row.tokens + tokens.len().saturating_sub(1);
        let read = row.start + row.tokens;
        self.reusable = if read < self.prompt {
            self.reusable.max(read)
        } else {
            usize::MAX
        };
        self.tokens.extend_from_slice(tokens);
        // Without a new token the last one is fed again, as only its logits make the next.
        self.computed = self.computed.min(self.tokens.len() - 1);
    }

    /// Makes every page that is full of computed tokens findable.
    pub fn publish_full_pages(&mut self, pools: &mut [PagePool]) {
        while (self.published + 1) * PAGE_TOKENS <= self.computed {
            let key = self.key(self.published);
            for (table, pool) in self.tables.iter().zip(pools.iter_mut()) {
                if self.published >= table.unseen {
                    pool.publish(table.pages[self.published], key);
                }
            }
            self.published += 1;
        }
    }

    /// Takes over the pages of the cache that hold the beginning of its tokens; one token at least is left to compute. Of pools
    /// with a window, only those pages are wanted that the rest still sees.
    pub fn reuse(&mut self, limits: &[PoolLimits], pools: &mut [PagePool]) {
        let most = (self.tokens.len() - 1).min(self.reusable) / PAGE_TOKENS;
        let count = longest_beginning(limits, most, |pool, page| pools[pool].has(&self.key(page)));
        let keys = &self.keys[..count];
        for (pool, (table, pages)) in self.tables.iter_mut().zip(pools).enumerate() {
            let seen = limits[pool].unseen_pages(count * PAGE_TOKENS)..count;
            table.unseen = seen.start;
            table.known = 0;
            // No layer looks at those before.
            table.pages = vec![0; seen.start];
            let found = keys[seen].iter().map(|key| pages.find(key).expect("it is there"));
            table.pages.extend(found);
        }
        self.published = count;
        self.computed = count * PAGE_TOKENS;
    }

    /// Gives back pages behind the computed tokens: the room of drafts that were not accepted.
    pub fn trim_pages(&mut self, pools: &mut [PagePool]) {
        let needed = self.computed.div_ceil(PAGE_TOKENS).max(1);
        for (table, pool) in self.tables.iter_mut().zip(pools) {
            while table.pages.len() > needed {
                pool.release(table.pages.pop().expect("more pages than needed"));
                table.known = table.known.min(table.pages.len());
            }
        }
    }

    /// Gives back the first pages, as far as no token to come looks at them.
    pub fn give_back_unseen(&mut self, limits: &[PoolLimits], pools: &mut [PagePool]) {
        for ((table, limits), pool) in self.tables.iter_mut().zip(limits).zip(pools) {
            while table.unseen < limits.unseen_pages(self.computed) {
                pool.release(table.pages[table.unseen]);
                table.unseen += 1;
            }
        }
    }

    /// Gives back all pages and forgets what was computed.
    pub fn release_pages(&mut self, pools: &mut [PagePool]) {
        for (table, pool) in self.tables.iter_mut().zip(pools) {
            // From the end, so that the beginning, which others are more likely to share, stays cached longer.
            table.held().iter().rev().for_each(|page| pool.release(*page));
            *table = Table::default();
        }
        self.computed = 0;
        self.published = 0;
        self.lane = None;
    }

    /// Returns the key of a full page.
    fn key(&mut self, page: usize) -> ChainKey {
        while self.keys.len() <= page {
            let start = self.keys.len() * PAGE_TOKENS;
            let before = self.keys.last().unwrap_or(&self.scope);
            let key = chain_next(before, &self.tokens[start..start + PAGE_TOKENS]);
            self.keys.push(key);
        }
        self.keys[page]
    }
}

/// Returns how many pages of a beginning every pool has, as far as what follows still sees them; `most` at most.
///
/// Each page is looked up once in each pool.
fn longest_beginning(limits: &[PoolLimits], most: usize, mut has: impl FnMut(usize, usize) -> bool) -> usize {
    // For each pool, how many pages before the next one it has without a gap.
    let mut unbroken: SmallVec<[usize; 4]> = smallvec![0; limits.len()];
    let mut longest = 0;
    for page in 0..most {
        for (pool, unbroken) in unbroken.iter_mut().enumerate() {
            *unbroken = if has(pool, page) { *unbroken + 1 } else { 0 };
        }
        let count = page + 1;
        let pools = || limits.iter().zip(&unbroken);
        if pools().any(|(limits, unbroken)| limits.window.is_none() && *unbroken < count) {
            // Where layers see all, nothing behind the first gap is of use.
            break;
        }
        if pools().all(|(limits, unbroken)| *unbroken >= count - limits.unseen_pages(count * PAGE_TOKENS)) {
            longest = count;
        }
    }
    longest
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The same by its definition: from the longest beginning down.
    fn by_definition(limits: &[PoolLimits], held: &[Vec<bool>]) -> usize {
        let is_whole = |count: &usize| {
            let seen = |pool: usize| limits[pool].unseen_pages(count * PAGE_TOKENS)..*count;
            held.iter()
                .enumerate()
                .all(|(pool, held)| held[seen(pool)].iter().all(|held| *held))
        };
        (0..=held[0].len()).rev().find(is_whole).unwrap_or(0)
    }

    proptest! {
        #[test]
        fn a_shared_beginning_is_found_with_one_look_at_each_page(
            held in prop::collection::vec(prop::collection::vec(prop::bool::weighted(0.8), 60), 1..4),
            windows in prop::collection::vec(prop::option::of(1usize..300), 3),
        ) {
            let limits: Vec<PoolLimits> = windows[..held.len()].iter().map(|window| PoolLimits { pages: 100, window: *window }).collect();
            let mut looks = 0;
            let found = longest_beginning(&limits, 60, |pool, page| {
                looks += 1;
                held[pool][page]
            });
            prop_assert_eq!(found, by_definition(&limits, &held));
            prop_assert!(looks <= 60 * held.len());
        }
    }
}
