//! The arithmetic of memory: what a configuration needs, and how many pages are left for keys and values.

use vastrelay_engine::{CpuExecutor, PAGE_TOKENS, PoolLimits};
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_weights::ModelDescription;
use vastrelay_weights::description::Sight;

/// What a replica takes of its device, in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MemoryPlan {
    /// What the device has.
    pub device: usize,
    /// What the replica may take.
    pub budget: usize,
    /// Packed weights.
    pub weights: usize,
    /// Activations and tables.
    pub workspace: usize,
    /// KV pages, one pool for all layers that see equally far; the first one's see farthest.
    pub pools: Vec<PoolPlan>,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// KV cache precision.
    pub kv: KvPrecision,
    /// Sequences at full context that fit.
    pub(crate) fits: usize,
}

/// KV pages that some of a model's layers share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PoolPlan {
    /// The layers.
    pub sight: Sight,
    /// Bytes of one page.
    pub page: usize,
    /// How many there are.
    pub pages: usize,
    /// The most that a sequence at full context holds at once.
    pub per_sequence: usize,
}

/// What memory is planned for.
#[derive(Clone, Copy, Debug)]
pub struct MemoryWish {
    /// Bytes of packed weights.
    pub weights: usize,
    /// Bytes of the device.
    pub device: usize,
    /// Bytes that may be taken.
    pub budget: usize,
    /// Shards that the model is divided into.
    pub split: usize,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// KV pages for the layers that see farthest; as many as fit and are of use when absent.
    pub pages: Option<usize>,
    /// KV cache precision.
    pub kv: KvPrecision,
}

/// The configuration does not fit.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DoesNotFit {
    /// Not even one sequence does.
    #[error(
        "it needs {} for weights and workspace and {} for one sequence of {context} tokens: {} more than its limit of {}; \
         use a smaller context or a larger memory share",
        bytes(*fixed), bytes(*sequence), bytes((fixed + sequence).saturating_sub(*budget)), bytes(*budget)
    )]
    Sequence {
        /// Weights and workspace.
        fixed: usize,
        /// The pages of one sequence at full context.
        sequence: usize,
        /// Tokens of one sequence.
        context: usize,
        /// What the replica may take.
        budget: usize,
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
        /// What weights and workspace leave.
        left: usize,
        /// What the replica may take.
        budget: usize,
        /// Pages that would fit.
        most: usize,
    },
}

impl MemoryPlan {
    /// Plans for a model: all of the budget that is left becomes KV pages, but no more than a full batch and as much again for reuse
    /// can use; or exactly so many when they are given. Layers with a window have as many pages as the others up to what a full batch
    /// and as much again can use of them.
    ///
    /// # Errors
    /// When not even one sequence at full context fits.
    pub fn new(model: &ModelDescription, wish: MemoryWish) -> Result<MemoryPlan, DoesNotFit> {
        let MemoryWish { context, kv, split, .. } = wish;
        let workspace = CpuExecutor::workspace_bytes(model, split, wish.step_budget, context);
        let pool = |sight: Sight| {
            let limits = PoolLimits {
                pages: 0,
                window: sight.window,
            };
            let per_sequence = limits.most_held(context, wish.step_budget);
            PoolPlan {
                sight,
                page: CpuExecutor::page_bytes(model, sight.layers, split, kv),
                pages: per_sequence.saturating_mul(2).saturating_mul(wish.width),
                per_sequence,
            }
        };
        let mut pools: Vec<PoolPlan> = model.sights().into_iter().map(pool).collect();
        let most = wish.pages.unwrap_or(pools[0].pages);
        pools[0].pages = most;
        let left = wish.budget.saturating_sub(wish.weights + workspace);
        // Of every pool as many, as far as they are of use there.
        let bytes_of = |pool: &PoolPlan, each: usize| pool.pages.min(each).saturating_mul(pool.page);
        let taken = |each: usize| {
            pools
                .iter()
                .map(|pool| bytes_of(pool, each))
                .fold(0, usize::saturating_add)
        };
        let each = largest(most.min(left), |each| taken(each) <= left);
        let sequence: usize = pools.iter().map(|pool| pool.per_sequence * pool.page).sum();
        if let Some(pages) = wish.pages.filter(|pages| *pages > each) {
            return Err(DoesNotFit::Pages {
                pages,
                page: pools.iter().map(|pool| pool.page).sum(),
                left,
                budget: wish.budget,
                most: each,
            });
        }
        pools.iter_mut().for_each(|pool| pool.pages = pool.pages.min(each));
        let short = pools.iter().any(|pool| pool.pages < pool.per_sequence);
        if each == 0 || wish.pages.is_none() && short {
            return Err(DoesNotFit::Sequence {
                fixed: wish.weights + workspace,
                sequence,
                context,
                budget: wish.budget,
            });
        }
        Ok(MemoryPlan {
            device: wish.device,
            budget: wish.budget,
            weights: wish.weights,
            workspace,
            fits: match wish.pages {
                Some(_) => pools
                    .iter()
                    .map(|pool| pool.pages / pool.per_sequence)
                    .min()
                    .unwrap_or(0),
                None => left / sequence.max(1),
            },
            pools,
            context,
            kv,
        })
    }

    /// Returns the bytes that it takes: weights, workspace and KV pools.
    pub fn total(&self) -> usize {
        self.weights + self.workspace + self.kv_pool()
    }

    /// Returns the bytes of the KV pools.
    pub fn kv_pool(&self) -> usize {
        self.pools.iter().map(|pool| pool.pages * pool.page).sum()
    }

    /// Returns the bytes of a page in all layers.
    pub fn page(&self) -> usize {
        self.pools.iter().map(|pool| pool.page).sum()
    }

    /// Returns how many sequences at full context fit: in the pages that were asked for, or else in all memory that weights
    /// and workspace leave.
    pub fn full_context_sequences(&self) -> usize {
        self.fits
    }

    /// Returns the bytes of one sequence at full context.
    pub fn sequence(&self) -> usize {
        self.pools.iter().map(|pool| pool.per_sequence * pool.page).sum()
    }

    /// Returns the arithmetic, line by line.
    pub fn lines(&self) -> Vec<String> {
        let mut lines = vec![
            format!(
                "memory limit  {:>10}  of {} on this device",
                bytes(self.budget),
                bytes(self.device)
            ),
            format!(
                "− weights     {:>10}  packed, in the precision they run in",
                bytes(self.weights)
            ),
            format!(
                "− workspace   {:>10}  activations of the largest step and rotary tables",
                bytes(self.workspace)
            ),
        ];
        lines.extend(self.pools.iter().map(|pool| {
            format!(
                "− KV pool     {:>10}  {} pages × {} ({PAGE_TOKENS} tokens a page, keys and values in {}{})",
                bytes(pool.pages * pool.page),
                grouped(pool.pages),
                bytes(pool.page),
                self.kv.name(),
                self.layers_of(pool)
            )
        }));
        lines.push(format!(
            "= free        {:>10}",
            bytes(
                self.budget
                    .saturating_sub(self.weights + self.workspace + self.kv_pool())
            )
        ));
        lines.push(format!(
            "{} sequences of {} tokens fit, {} each",
            grouped(self.full_context_sequences()),
            grouped(self.context),
            bytes(self.sequence())
        ));
        lines
    }

    /// Says which layers a pool is for, where there are several or pages are given back.
    fn layers_of(&self, pool: &PoolPlan) -> String {
        let layers = pool.sight.layers;
        match pool.sight.window {
            Some(window) => format!("; {layers} layers with a window of {} tokens", grouped(window)),
            None if self.pools.len() > 1 => format!("; {layers} layers without a window"),
            None => String::new(),
        }
    }
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

/// Returns a number with commas between groups of three digits.
pub fn grouped(number: usize) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// Returns a size for people, in binary units.
pub fn bytes(count: usize) -> String {
    const UNITS: [&str; 5] = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = count as f64;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 {
        format!("{count} B")
    } else {
        format!("{value:.1} {}", UNITS[unit])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn model() -> ModelDescription {
        let config = r#"{
            "architectures": ["LlamaForCausalLM"], "vocab_size": 1000, "hidden_size": 64, "intermediate_size": 128,
            "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "rms_norm_eps": 1e-5,
            "max_position_embeddings": 256, "tie_word_embeddings": true
        }"#;
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), config).unwrap();
        ModelDescription::open(folder.path()).unwrap()
    }

    fn wish(weights: usize, budget: usize) -> MemoryWish {
        MemoryWish {
            weights,
            device: 64 << 30,
            budget,
            split: 1,
            width: 4,
            step_budget: 64,
            context: 256,
            pages: None,
            kv: KvPrecision::F32,
        }
    }

    #[test]
    fn the_parts_add_up_to_the_budget_or_less() {
        let plan = MemoryPlan::new(&model(), wish(1 << 20, 2 << 20)).unwrap();
        assert_eq!(plan.page(), 2 * 4 * 2 * 2 * 16 * 16);
        let taken = plan.weights + plan.workspace + plan.kv_pool();
        assert!(taken <= plan.budget && plan.budget - taken < plan.page());
        let left = plan.budget - plan.weights - plan.workspace;
        assert_eq!(plan.full_context_sequences(), left / plan.sequence());
        let huge = MemoryPlan::new(&model(), wish(1 << 20, 32 << 30)).unwrap();
        assert_eq!(huge.pools[0].pages, 2 * 4 * 16);
    }

    #[test]
    fn layers_with_a_window_get_no_more_pages_than_they_can_use() {
        let mut mixed = model();
        mixed.layers = 6;
        mixed.windows = vec![Some(40), Some(40), None, Some(40), Some(40), None];
        let pages = |budget: usize| {
            let plan = MemoryPlan::new(&mixed, wish(1 << 20, budget)).unwrap();
            let pools = plan.pools.iter();
            (
                pools.map(|pool| (pool.sight.layers, pool.pages)).collect::<Vec<_>>(),
                plan.kv_pool(),
            )
        };
        // Forty tokens that are seen and sixty-four that are computed lie in eight pages at most.
        let (huge, taken) = pages(32 << 30);
        assert_eq!(huge, [(2, 128), (4, 64)]);
        assert_eq!(taken, 4096 * (2 * 128 + 4 * 64));
        let (small, _) = pages(3 << 20);
        assert!(small[0].1 < 128 && small[1].1 == 64, "{small:?}");
    }

    #[test]
    fn shards_copy_key_and_value_heads_where_they_are_more() {
        let page = |split| {
            MemoryPlan::new(
                &model(),
                MemoryWish {
                    split,
                    ..wish(0, 1 << 30)
                },
            )
            .unwrap()
            .page()
        };
        assert_eq!((page(2), page(4)), (page(1), 2 * page(1)));
    }

    #[test]
    fn figures_are_written_for_people() {
        assert_eq!([0, 999, 1000, 1234567].map(grouped), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([17, 1536, 3 << 30].map(bytes), ["17 B", "1.5 KiB", "3.0 GiB"]);
    }

    #[test]
    fn too_little_is_an_error_with_the_figures() {
        let error = MemoryPlan::new(&model(), wish(8 << 20, 8 << 20)).unwrap_err();
        let text = error.to_string();
        assert!(
            text.contains("8.0 MiB") && text.contains("256 tokens") && text.contains("smaller context"),
            "{text}"
        );
    }

    #[test]
    fn pages_that_do_not_fit_are_an_error_with_the_most_that_would() {
        for pages in [100_000, usize::MAX] {
            let wish = MemoryWish {
                pages: Some(pages),
                ..wish(0, 32 << 20)
            };
            let error = MemoryPlan::new(&model(), wish).unwrap_err();
            let DoesNotFit::Pages { most, .. } = error else {
                panic!("{error}")
            };
            assert!(!error.to_string().contains(" 0 B"), "{error}");
            let fits = |pages| {
                MemoryPlan::new(
                    &model(),
                    MemoryWish {
                        pages: Some(pages),
                        ..wish
                    },
                )
                .is_ok()
            };
            assert!(fits(most) && !fits(most + 1));
        }
    }

    #[test]
    fn as_many_sequences_fit_as_memory_holds_whatever_the_width() {
        let plan = MemoryPlan::new(&model(), wish(0, 1 << 30)).unwrap();
        assert!(
            plan.full_context_sequences() > 2 * 4,
            "{}",
            plan.full_context_sequences()
        );
        assert_eq!(plan.pools[0].pages, 2 * 4 * 16);
    }
}
