//! The arithmetic of memory: what a configuration needs, and how many pages are left for keys and values.

use vastrelay_engine::CpuExecutor;
use vastrelay_kernels::attention::{KvPrecision, PAGE_TOKENS};
use vastrelay_weights::ModelDescription;

/// What a replica takes of its device, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MemoryPlan {
    /// What the device has.
    pub device: usize,
    /// What the replica may take.
    pub budget: usize,
    /// Packed weights.
    pub weights: usize,
    /// Activations and tables.
    pub workspace: usize,
    /// One KV page.
    pub page: usize,
    /// KV pages.
    pub pages: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// How keys and values are kept.
    pub kv: KvPrecision,
}

/// The configuration does not fit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "it needs {} for weights and workspace and {} for one sequence of {context} tokens, {} more than the {} it may \
     take; a smaller context or a larger memory share would help",
    bytes(*fixed), bytes(*sequence), bytes((fixed + sequence).saturating_sub(*budget)), bytes(*budget)
)]
pub struct DoesNotFit {
    /// Weights and workspace.
    pub fixed: usize,
    /// The pages of one sequence at full context.
    pub sequence: usize,
    /// Tokens of one sequence.
    pub context: usize,
    /// What the replica may take.
    pub budget: usize,
}

impl MemoryPlan {
    /// Plans for a model whose packed weights take `weights` bytes: all of the budget that is left becomes KV pages, but no
    /// more than a full batch and as much again for reuse can use; or exactly `pages` when given.
    ///
    /// # Errors
    /// When not even one sequence at full context fits.
    pub fn new(
        model: &ModelDescription,
        weights: usize,
        device: usize,
        budget: usize,
        width: usize,
        step_budget: usize,
        context: usize,
        pages: Option<usize>,
        kv: KvPrecision,
    ) -> Result<MemoryPlan, DoesNotFit> {
        let workspace = CpuExecutor::workspace_bytes(model, step_budget, context);
        let page = CpuExecutor::page_bytes(model, kv);
        let per_sequence = context.div_ceil(PAGE_TOKENS);
        let affordable = budget.saturating_sub(weights + workspace) / page;
        let wanted = pages.unwrap_or(2 * width * per_sequence);
        let does_not_fit = DoesNotFit {
            fixed: weights + workspace,
            sequence: per_sequence * page,
            context,
            budget,
        };
        if pages.is_none() && affordable < per_sequence || pages.is_some_and(|pages| pages > affordable || pages == 0) {
            return Err(does_not_fit);
        }
        Ok(MemoryPlan {
            device,
            budget,
            weights,
            workspace,
            page,
            pages: wanted.min(affordable),
            context,
            kv,
        })
    }

    /// Returns the bytes of the KV pool.
    pub fn kv_pool(&self) -> usize {
        self.pages * self.page
    }

    /// Returns how many sequences at full context fit.
    pub fn full_context_sequences(&self) -> usize {
        self.pages / self.context.div_ceil(PAGE_TOKENS)
    }

    /// Returns the arithmetic, line by line.
    pub fn lines(&self) -> Vec<String> {
        let per_sequence = self.context.div_ceil(PAGE_TOKENS);
        vec![
            format!(
                "memory share  {:>10}  of {} on this device",
                bytes(self.budget),
                bytes(self.device)
            ),
            format!(
                "− weights     {:>10}  packed, in the precision they execute in",
                bytes(self.weights)
            ),
            format!(
                "− workspace   {:>10}  activations of the largest step, rotary tables",
                bytes(self.workspace)
            ),
            format!(
                "− KV pool     {:>10}  {} pages × {} ({PAGE_TOKENS} tokens a page, keys and values in {})",
                bytes(self.kv_pool()),
                grouped(self.pages),
                bytes(self.page),
                self.kv.name()
            ),
            format!(
                "= left free   {:>10}",
                bytes(self.budget - self.weights - self.workspace - self.kv_pool())
            ),
            format!(
                "largest number of sequences at full context: {} pages ÷ {per_sequence} pages for {} tokens = {}",
                grouped(self.pages),
                grouped(self.context),
                self.full_context_sequences()
            ),
        ]
    }
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

    #[test]
    fn the_parts_add_up_to_the_budget_or_less() {
        let plan = MemoryPlan::new(&model(), 1 << 20, 64 << 20, 8 << 20, 4, 64, 256, None, KvPrecision::F32).unwrap();
        assert_eq!(plan.page, 2 * 4 * 2 * 2 * 16 * 16);
        assert!(plan.weights + plan.workspace + plan.kv_pool() <= plan.budget);
        assert_eq!(plan.full_context_sequences(), plan.pages / 16);
        let huge = MemoryPlan::new(
            &model(),
            1 << 20,
            64 << 30,
            32 << 30,
            4,
            64,
            256,
            None,
            KvPrecision::F32,
        )
        .unwrap();
        assert_eq!(huge.pages, 2 * 4 * 16);
    }

    #[test]
    fn figures_are_written_for_people() {
        assert_eq!([0, 999, 1000, 1234567].map(grouped), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([17, 1536, 3 << 30].map(bytes), ["17 B", "1.5 KiB", "3.0 GiB"]);
    }

    #[test]
    fn too_little_is_an_error_with_the_figures() {
        let error =
            MemoryPlan::new(&model(), 8 << 20, 64 << 20, 8 << 20, 4, 64, 256, None, KvPrecision::F32).unwrap_err();
        let text = error.to_string();
        assert!(
            text.contains("8.0 MiB") && text.contains("256 tokens") && text.contains("smaller context"),
            "{text}"
        );
    }
}
