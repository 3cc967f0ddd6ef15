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
    /// Tokens of one sequence at most.
    pub context: usize,
    /// KV pages for the layers that see farthest; as many as fit and are of use when absent.
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
    /// Tokens of one sequence at most.
    pub context: usize,
    /// Whether somebody has said how many pages there are.
    given: bool,
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
        "it needs {} for weights, workspace and process and {} for one sequence of {context} tokens: {} more than its limit of \
         {}; use {}",
        bytes(*fixed), bytes(*sequence), bytes((fixed + sequence).saturating_sub(*budget)), bytes(*budget), advice(*budget < *device)
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

/// Returns what would let a sequence fit.
fn advice(has_larger_share: bool) -> &'static str {
    match has_larger_share {
        true => "a smaller context or a larger memory share",
        false => "a smaller context, a lower precision or more devices",
    }
}

impl MemoryPlan {
    /// Plans with an executor's sizes: all of the budget that is left becomes KV pages, but no more than a full batch and as much again
    /// for reuse can use; or exactly so many when they are given. Layers with a window have as many pages as the others up to what a
    /// full batch and as much again can use of them.
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
        let useful = |sizes: &PoolSizes| sizes.per_sequence.saturating_mul(2).saturating_mul(request.width);
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
            context: request.context,
            given: request.pages.is_some(),
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

    /// Returns how many sequences at full context fit: in the pages that were asked for, or else in all memory that weights,
    /// workspace and process leave.
    pub fn full_context_sequences(&self) -> usize {
        self.sequences(|pool| pool.per_sequence)
    }

    /// Returns how many sequences of so many tokens fit, likewise, where a step has so many tokens at most.
    pub fn sequences_of(&self, tokens: usize, step_budget: usize) -> usize {
        self.sequences(|pool| pool.reach.most_held(tokens, step_budget))
    }

    fn sequences(&self, held: impl Fn(&PoolSizes) -> usize) -> usize {
        if self.given {
            let of = |pool: &PoolPlan| pool.pages / held(&pool.sizes).max(1);
            return self.pools.iter().map(of).min().unwrap_or(0);
        }
        let left = self.budget.saturating_sub(self.weights + self.workspace + self.process);
        let each = |pool: &PoolPlan| held(&pool.sizes) * pool.sizes.page;
        left / self.pools.iter().map(each).sum::<usize>().max(1)
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
            context: 256,
            pages: None,
        }
    }

    #[test]
    fn a_full_batch_and_as_much_again_is_enough() {
        let plan = MemoryPlan::new(&sizes(1 << 20), request(32 << 30)).unwrap();
        assert_eq!(plan.pools[0].pages, 2 * 4 * 16);
        // Memory holds many more, at any width.
        assert!(plan.full_context_sequences() > 1_000);
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
            text.contains("8.0 MiB") && text.contains("256 tokens") && text.contains("smaller context"),
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
        ) {
            let mut pools = vec![pool(None, 2, page, per_sequence)];
            // A shorter reach never holds more pages.
            pools.extend(windowed.map(|(page, held)| pool(Some(64), 2, page, held.min(per_sequence))));
            let sizes = Sizes { weights, workspace: 1 << 16, process, pools };
            let request = MemoryRequest { width, ..request(budget) };
            match MemoryPlan::new(&sizes, request) {
                Ok(plan) => {
                    prop_assert!(plan.total() <= budget);
                    let all = plan.pools.iter().all(|pool| pool.pages == 2 * width * pool.sizes.per_sequence);
                    prop_assert!(all || plan.free() < plan.page());
                    prop_assert!(plan.pools.iter().all(|pool| pool.pages >= pool.sizes.per_sequence));
                }
                Err(DoesNotFit::Sequence { fixed, .. }) => {
                    // Of every pool as many: what a sequence needs of the larger may not fit beside as many of the other.
                    let most = sizes.pools.iter().map(|pool| pool.per_sequence).max().unwrap_or(0);
                    let each = |pool: &PoolSizes| pool.page * most.min(2 * width * pool.per_sequence);
                    prop_assert!(fixed + sizes.pools.iter().map(each).sum::<usize>() > budget);
                }
                Err(other) => prop_assert!(false, "{}", other),
            }
        }
    }
}
