//! One sequence, as the scheduler sees it.

use super::{Arrival, Moment, PlannedRow, Rank, SequenceId};
use crate::pages::{ChainKey, PagePool, chain_next};
use vastrelay_kernels::attention::PAGE_TOKENS;

pub(super) struct Sequence {
    pub rank: Rank,
    /// Prompt, then what was produced.
    pub tokens: Vec<u32>,
    pub prompt: usize,
    pub most_tokens: usize,
    pub deadline: Option<Moment>,
    pub fork_of: Option<SequenceId>,
    pub awaits_constraint: bool,
    pub drafts: usize,
    pub lane: Option<usize>,
    pub pages: Vec<u32>,
    /// How many of the first pages were given back, as it does not see them any more.
    pub unseen: usize,
    /// Tokens whose keys and values lie in the pages.
    pub computed: usize,
    /// Pages that were published, and the key of the last.
    pub published: usize,
    pub chain: ChainKey,
    pub scope: ChainKey,
}

impl Sequence {
    pub fn new(arrival: Arrival, rank: Rank) -> Sequence {
        assert!(
            !arrival.prompt.is_empty() && arrival.most_output > 0,
            "something to read and something to say"
        );
        Sequence {
            rank,
            prompt: arrival.prompt.len(),
            most_tokens: arrival.prompt.len() + arrival.most_output,
            tokens: arrival.prompt,
            deadline: arrival.deadline,
            fork_of: arrival.fork_of,
            awaits_constraint: arrival.awaits_constraint,
            drafts: arrival.drafts,
            lane: None,
            pages: Vec::new(),
            unseen: 0,
            computed: 0,
            published: 0,
            chain: arrival.scope,
            scope: arrival.scope,
        }
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

    /// Takes in what a row computed and produced.
    pub fn advance(&mut self, row: &PlannedRow, tokens: &[u32]) {
        self.computed = row.start + row.tokens + tokens.len().saturating_sub(1);
        self.tokens.extend_from_slice(tokens);
        // Without a new token the last one is fed again, as only its logits make the next.
        self.computed = self.computed.min(self.tokens.len() - 1);
    }

    /// Makes every page that is full of computed tokens findable.
    pub fn publish_full_pages(&mut self, pool: &mut PagePool) {
        while (self.published + 1) * PAGE_TOKENS <= self.computed {
            let tokens = &self.tokens[self.published * PAGE_TOKENS..(self.published + 1) * PAGE_TOKENS];
            self.chain = chain_next(&self.chain, tokens);
            if self.published >= self.unseen {
                pool.publish(self.pages[self.published], self.chain);
            }
            self.published += 1;
        }
    }

    /// Takes over the pages of the cache that hold the beginning of its tokens; one token at least is left to compute.
    pub fn reuse(&mut self, pool: &mut PagePool) {
        let most = (self.tokens.len() - 1) / PAGE_TOKENS;
        while self.published < most {
            let tokens = &self.tokens[self.published * PAGE_TOKENS..(self.published + 1) * PAGE_TOKENS];
            let key = chain_next(&self.chain, tokens);
            let Some(page) = pool.find(&key) else { break };
            self.pages.push(page);
            self.chain = key;
            self.published += 1;
        }
        self.computed = self.published * PAGE_TOKENS;
    }

    /// Gives back pages behind the computed tokens: the room of drafts that were not accepted.
    pub fn trim_pages(&mut self, pool: &mut PagePool) {
        let needed = self.computed.div_ceil(PAGE_TOKENS).max(1);
        while self.pages.len() > needed {
            pool.release(self.pages.pop().expect("more pages than needed"));
        }
    }

    /// Returns the pages that it holds.
    pub fn held(&self) -> &[u32] {
        &self.pages[self.unseen..]
    }

    /// Gives back the first pages up to a number, which no token to come looks at.
    pub fn give_back_unseen(&mut self, count: usize, pool: &mut PagePool) {
        while self.unseen < count {
            pool.release(self.pages[self.unseen]);
            self.unseen += 1;
        }
    }

    /// Gives back all pages and forgets what was computed.
    pub fn release_pages(&mut self, pool: &mut PagePool) {
        // From the end, so that the beginning, which others are more likely to share, stays cached longer.
        for page in self.held().iter().rev() {
            pool.release(*page);
        }
        self.pages.clear();
        self.unseen = 0;
        self.computed = 0;
        self.published = 0;
        self.chain = self.scope;
        self.lane = None;
    }
}
