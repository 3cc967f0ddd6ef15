//! A device's memory, divided among weights, workspace and KV pages.

use crate::amounts::{bytes, grouped};
use vastrelay_weights::description::AttentionReach;

/// The bytes that an executor takes of any device, by its own figures.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sizes {
    /// Weights as they lie in memory.
    pub weights: usize,
    /// Activations of the largest step, and tables.
    pub workspace: usize,
    /// What a replica takes besides: its program, its threads' stacks, its tokenizer, its records.
    pub process: usize,
    /// The kinds of KV pages, one for all layers that see equally far; at least one. The first one's see farthest.
    pub pools: Vec<PoolSizes>,
}

/// KV pages that some of a model's layers share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PoolSizes {
    /// The layers.
    pub reach: AttentionReach,
    /// Bytes of one page.
    pub page: usize,
    /// The most pages that a sequence at full context holds at once.
    pub per_sequence: usize,
}

/// A request for memory.
#[derive(Clone, Copy, Debug)]
pub struct MemoryRequest {
    /// Bytes of the device.
    pub device: usize,
    /// Bytes that may be taken.
    pub budget: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in a step.
    pub step_budget: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// Tokens of a typical sequence.
    pub typical: usize,
    /// KV pages for the layers that see farthest. When absent, pages for one sequence at full context or for two batches of typical
    /// sequences, whichever are more, as far as they fit.
    pub pages: Option<usize>,
}

/// What a replica takes of its device, in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MemoryPlan {
    /// What the device has.
    pub device: usize,
    /// What the replica may take.
    pub budget: usize,
    /// Weights as they lie in memory.
    pub weights: usize,
    /// Activations and tables.
    pub workspace: usize,
    /// What it takes besides.
    pub process: usize,
    /// KV pages, one pool for all layers that see equally far; the first one's see farthest.
    pub pools: Vec<PoolPlan>,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in a step.
    pub step_budget: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// Tokens of a typical sequence.
    pub typical: usize,
}

/// How many sequences of so many tokens a replica can run, and how many its memory limit could hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SequenceRoom {
    /// Tokens of each sequence.
    pub tokens: usize,
    /// Sequences that run at once: as many as the pools hold, and at most as many as the batch has lanes.
    pub at_once: usize,
    /// Sequences that the pools hold.
    pub in_pool: usize,
    /// Further sequences that the rest of the memory limit could hold, if the pools had that memory, too.
    pub in_rest: usize,
}

impl SequenceRoom {
    /// Returns how many sequences the memory limit could hold, if the pools had all that weights, workspace and process leave.
    pub fn in_limit(self) -> usize {
        self.in_pool + self.in_rest
    }
}

/// A pool of KV pages.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PoolPlan {
    /// Which pages.
    pub sizes: PoolSizes,
    /// How many there are.
    pub pages: usize,
}

/// The configuration does not fit.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DoesNotFit {
    /// Not even one sequence does.
    #[error(
        "it needs {} for weights, workspace and process and {} for one sequence of {} tokens: {} more than its limit of {}",
        bytes(*fixed), bytes(*sequence), grouped(*context), bytes((fixed + sequence).saturating_sub(*budget)), bytes(*budget)
    )]
    Sequence {
        /// Weights, workspace and process.
        fixed: usize,
        /// The pages of one sequence at full context.
        sequence: usize,
        /// Tokens of one sequence.
        context: usize,
        /// Most bytes of the replica.
        budget: usize,
        /// The memory of the device.
        device: usize,
    },
    /// The pages that were asked for do not.
    #[error(
        "{} KV pages need {}; {} of its limit of {} are left for them, which holds {} pages",
        grouped(*pages), bytes(pages.saturating_mul(*page)), bytes(*left), bytes(*budget), grouped(*most)
    )]
    Pages {
        /// Pages asked for.
        pages: usize,
        /// Bytes of one page in all layers.
        page: usize,
        /// Bytes left by weights, workspace and process.
        left: usize,
        /// Most bytes of the replica.
        budget: usize,
        /// Pages that would fit.
        most: usize,
    },
}

impl MemoryPlan {
    /// Plans with an executor's sizes. The pool has pages for two batches of typical sequences (one that runs, one for reuse), at least
    /// for one sequence at full context, and no more than the budget leaves; or exactly so many when they are given. Layers with a
    /// window have as many pages as the others up to what so many sequences can use of them.
    ///
    /// # Errors
    /// When not even one sequence at full context fits, or the pages that are given do not.
    pub fn new(sizes: &Sizes, request: MemoryRequest) -> Result<MemoryPlan, DoesNotFit> {
        let Sizes {
            weights,
            workspace,
            process,
            ..
        } = *sizes;
        let typical = request.typical.min(request.context);
        let batches = request.width.saturating_mul(2);
        let useful = |sizes: &PoolSizes| match request.pages {
            Some(_) => sizes.per_sequence.saturating_mul(batches),
            None => {
                let held = sizes
                    .reach
                    .most_held(typical, request.step_budget)
                    .min(sizes.per_sequence);
                held.saturating_mul(batches).max(sizes.per_sequence)
            }
        };
        let pool = |sizes: &PoolSizes| PoolPlan {
            sizes: *sizes,
            pages: useful(sizes),
        };
        let mut pools: Vec<PoolPlan> = sizes.pools.iter().map(pool).collect();
        let most = request.pages.unwrap_or(pools[0].pages);
        pools[0].pages = most;
        let fixed = weights + workspace + process;
        let left = request.budget.saturating_sub(fixed);
        // Of every pool as many, as far as they are of use there.
        let bytes_of = |pool: &PoolPlan, each: usize| pool.pages.min(each).saturating_mul(pool.sizes.page);
        let taken = |each: usize| {
            pools
                .iter()
                .map(|pool| bytes_of(pool, each))
                .fold(0, usize::saturating_add)
        };
        let each = largest(most.min(left), |each| taken(each) <= left);
        if let Some(pages) = request.pages.filter(|pages| *pages > each) {
            return Err(DoesNotFit::Pages {
                pages,
                page: page_of(&pools),
                left,
                budget: request.budget,
                most: each,
            });
        }
        pools.iter_mut().for_each(|pool| pool.pages = pool.pages.min(each));
        let sequence = sequence_of(&pools);
        let short = pools.iter().any(|pool| pool.pages < pool.sizes.per_sequence);
        if each == 0 || request.pages.is_none() && short {
            return Err(DoesNotFit::Sequence {
                fixed,
                sequence,
                context: request.context,
                budget: request.budget,
                device: request.device,
            });
        }
        Ok(MemoryPlan {
            device: request.device,
            budget: request.budget,
            weights,
            workspace,
            process,
            pools,
            width: request.width,
            step_budget: request.step_budget,
            context: request.context,
            typical,
        })
    }

    /// Returns the same plan with the bytes that the weights turned out to take.
    pub fn with_weights(self, weights: usize) -> MemoryPlan {
        MemoryPlan { weights, ..self }
    }

    /// Returns the bytes that it takes: weights, workspace, process and KV pools.
    pub fn total(&self) -> usize {
        self.weights + self.workspace + self.process + self.kv_pool()
    }

    /// Returns the bytes of its budget that it leaves.
    pub fn free(&self) -> usize {
        self.budget.saturating_sub(self.total())
    }

    /// Returns the bytes of the KV pools.
    pub fn kv_pool(&self) -> usize {
        self.pools.iter().map(PoolPlan::bytes).sum()
    }

    /// Returns the bytes of a page in all layers.
    pub fn page(&self) -> usize {
        page_of(&self.pools)
    }

    /// Returns how many sequences of so many tokens can run and could be held.
    pub fn room_for(&self, tokens: usize) -> SequenceRoom {
        let held = |pool: &PoolPlan| {
            let held = pool.sizes.reach.most_held(tokens, self.step_budget);
            held.clamp(1, pool.sizes.per_sequence)
        };
        let of_pool = |pool: &PoolPlan| pool.pages / held(pool);
        let in_pool = self.pools.iter().map(of_pool).min().unwrap_or(0);
        let left = self.budget.saturating_sub(self.weights + self.workspace + self.process);
        let each: usize = self.pools.iter().map(|pool| held(pool) * pool.sizes.page).sum();
        SequenceRoom {
            tokens,
            at_once: in_pool.min(self.width),
            in_pool,
            in_rest: (left / each.max(1)).saturating_sub(in_pool),
        }
    }

    /// Returns how many sequences at full context can run and could be held.
    pub fn full_sequences(&self) -> SequenceRoom {
        self.room_for(self.context)
    }

    /// Returns how many typical sequences can run and could be held.
    pub fn typical_sequences(&self) -> SequenceRoom {
        self.room_for(self.typical)
    }

    /// Returns the pages that a full batch of sequences at full context needs of the layers that see farthest.
    pub fn full_batch_pages(&self) -> usize {
        self.width * self.pools.first().map_or(0, |pool| pool.sizes.per_sequence)
    }

    /// Returns the bytes that a full batch of sequences at full context needs of the pools.
    pub fn full_batch_bytes(&self) -> usize {
        self.width * self.sequence()
    }

    /// Returns the bytes of one sequence at full context.
    pub fn sequence(&self) -> usize {
        sequence_of(&self.pools)
    }
}

impl PoolPlan {
    /// Returns its bytes.
    pub fn bytes(&self) -> usize {
        self.pages * self.sizes.page
    }
}

fn page_of(pools: &[PoolPlan]) -> usize {
    pools.iter().map(|pool| pool.sizes.page).sum()
}

fn sequence_of(pools: &[PoolPlan]) -> usize {
    pools.iter().map(|pool| pool.sizes.per_sequence * pool.sizes.page).sum()
}

/// Returns the largest number up to `most` of which something holds that holds of all smaller ones, or zero.
fn largest(most: usize, holds: impl Fn(usize) -> bool) -> usize {
    let (mut yes, mut no) = (0, most + 1);
    while no - yes > 1 {
        let middle = yes + (no - yes) / 2;
        if holds(middle) { yes = middle } else { no = middle }
    }
    yes
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A model with one kind of layers: a page of 4 KiB, sixteen of which hold a sequence.
    fn sizes(weights: usize) -> Sizes {
        Sizes {
            weights,
            workspace: 100_000,
            process: 1 << 20,
            pools: vec![pool(None, 2, 4096, 16)],
        }
    }

    fn pool(window: Option<usize>, layers: usize, page: usize, per_sequence: usize) -> PoolSizes {
        PoolSizes {
            reach: AttentionReach { window, layers },
            page,
            per_sequence,
        }
    }

    fn request(budget: usize) -> MemoryRequest {
        MemoryRequest {
            device: 64 << 30,
            budget,
            width: 4,
            step_budget: 64,
            context: 256,
            typical: 256,
            pages: None,
        }
    }

    #[test]
    fn two_batches_of_typical_sequences_are_enough() {
        let plan = |width, typical| {
            let request = MemoryRequest {
                width,
                typical,
                ..request(32 << 30)
            };
            MemoryPlan::new(&sizes(1 << 20), request).unwrap()
        };
        assert_eq!(plan(4, 256).pools[0].pages, 2 * 4 * 16);
        // A typical sequence of 64 tokens has four pages.
        let short = plan(4, 64);
        assert_eq!(short.pools[0].pages, 2 * 4 * 4);
        assert_eq!(
            (short.full_sequences().at_once, short.typical_sequences().at_once),
            (2, 4)
        );
        assert_eq!(
            (short.full_batch_pages(), short.full_batch_bytes()),
            (4 * 16, 4 * 16 * 4096)
        );
        // One full sequence always fits.
        assert_eq!(plan(1, 16).pools[0].pages, 16);
    }

    #[test]
    fn the_sequences_of_the_pool_are_told_apart_from_those_that_the_limit_could_hold() {
        let plan = MemoryPlan::new(&sizes(1 << 20), request(32 << 30)).unwrap();
        let room = plan.full_sequences();
        assert_eq!((room.tokens, room.at_once, room.in_pool), (256, 4, 8));
        let left = (32 << 30) - plan.weights - plan.workspace - plan.process;
        assert_eq!(room.in_limit(), left / (16 * 4096));
        let given = MemoryRequest {
            pages: Some(24),
            ..request(32 << 30)
        };
        let room = MemoryPlan::new(&sizes(1 << 20), given).unwrap().full_sequences();
        assert_eq!((room.at_once, room.in_pool), (1, 1));
        assert_eq!(room.in_limit(), left / (16 * 4096));
    }

    #[test]
    fn layers_with_a_window_get_no_more_pages_than_they_can_use() {
        let mixed = Sizes {
            pools: vec![pool(None, 2, 4096, 16), pool(Some(40), 4, 8192, 8)],
            ..sizes(1 << 20)
        };
        let pages = |budget: usize| {
            let plan = MemoryPlan::new(&mixed, request(budget)).unwrap();
            plan.pools.iter().map(|pool| pool.pages).collect::<Vec<_>>()
        };
        assert_eq!(pages(32 << 30), [128, 64]);
        let small = pages((2 << 20) + 100_000 + 800_000);
        assert!(small[0] < 128 && small[1] == 64, "{small:?}");
    }

    #[test]
    fn too_little_is_an_error_with_the_figures() {
        let text = MemoryPlan::new(&sizes(8 << 20), request(8 << 20))
            .unwrap_err()
            .to_string();
        assert!(
            text.contains("8.0 MiB") && text.contains("256 tokens") && text.contains("more than its limit"),
            "{text}"
        );
    }

    #[test]
    fn pages_that_do_not_fit_are_an_error_with_the_most_that_would() {
        for pages in [100_000, usize::MAX] {
            let request = |pages| MemoryRequest {
                pages: Some(pages),
                ..request(32 << 20)
            };
            let error = MemoryPlan::new(&sizes(0), request(pages)).unwrap_err();
            let DoesNotFit::Pages { most, .. } = error else {
                panic!("{error}")
            };
            assert!(!error.to_string().contains(" 0 B"), "{error}");
            let fits = |pages| MemoryPlan::new(&sizes(0), request(pages)).is_ok();
            assert!(fits(most) && !fits(most + 1));
        }
    }

    proptest! {
        /// Whatever the sizes, a plan stays within its budget, and one without given pages leaves no page unused that is of use.
        #[test]
        fn a_plan_keeps_to_its_budget(
            weights in 0usize..1 << 30, process in 0usize..1 << 24, page in 1usize..1 << 16, per_sequence in 1usize..200,
            windowed in prop::option::of((1usize..1 << 16, 1usize..100)), budget in 0usize..1 << 31, width in 1usize..64,
            typical in 1usize..256,
        ) {
            let mut pools = vec![pool(None, 2, page, per_sequence)];
            // A shorter reach never holds more pages.
            pools.extend(windowed.map(|(page, held)| pool(Some(64), 2, page, held.min(per_sequence))));
            let sizes = Sizes { weights, workspace: 1 << 16, process, pools };
            let request = MemoryRequest { width, typical, ..request(budget) };
            let of_use = |sizes: &PoolSizes| {
                let held = sizes.reach.most_held(typical, request.step_budget).min(sizes.per_sequence);
                (2 * width * held).max(sizes.per_sequence)
            };
            match MemoryPlan::new(&sizes, request) {
                Ok(plan) => {
                    prop_assert!(plan.total() <= budget);
                    let all = plan.pools.iter().all(|pool| pool.pages == of_use(&pool.sizes));
                    prop_assert!(all || plan.free() < plan.page());
                    prop_assert!(plan.pools.iter().all(|pool| pool.pages >= pool.sizes.per_sequence));
                }
                Err(DoesNotFit::Sequence { fixed, .. }) => {
                    // Of every pool as many: what a sequence needs of the larger may not fit beside as many of the other.
                    let most = sizes.pools.iter().map(|pool| pool.per_sequence).max().unwrap_or(0);
                    let each = |pool: &PoolSizes| pool.page * most.min(of_use(pool));
                    prop_assert!(fixed + sizes.pools.iter().map(each).sum::<usize>() > budget);
                }
                Err(other) => prop_assert!(false, "{}", other),
            }
        }
    }
}
