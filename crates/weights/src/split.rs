//! How a model is divided over several devices.
//!
//! Heads, the inner widths of MLPs and the vocabulary are divided; norms and routers are on every shard. Each shard then computes
//! a part of every sum over heads or inner widths, and the parts are added up after attention and after the MLP
//! ("Megatron-LM: Training Multi-Billion Parameter Language Models Using Model Parallelism", Shoeybi et al., 2019).

use crate::ModelDescription;
use std::ops::Range;

/// One of the equal parts of a model.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shard {
    /// Which one, from 0 on.
    pub index: usize,
    /// How many there are.
    pub of: usize,
}

/// A model cannot be divided so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a split of {split} does not divide {}; use {}", .breaks.join(" and "), either(.valid))]
pub struct SplitError {
    /// How many shards were asked for.
    pub split: usize,
    /// The dimensions that it does not divide, with their sizes.
    pub breaks: Vec<String>,
    /// The numbers of shards that divide all.
    pub valid: Vec<usize>,
}

/// Returns numbers of shards in words, such as `1, 2 or 4`.
pub fn either(splits: &[usize]) -> String {
    let numbers: Vec<String> = splits.iter().map(usize::to_string).collect();
    match numbers.split_last() {
        Some((last, [])) => format!("only {last}"),
        Some((last, rest)) => format!("{} or {last}", rest.join(", ")),
        None => "nothing".into(),
    }
}

impl Shard {
    /// The only part of a model that is not divided.
    pub const WHOLE: Shard = Shard { index: 0, of: 1 };

    /// Returns all parts of a model that is divided by `split`.
    pub fn all(split: usize) -> impl Iterator<Item = Shard> {
        (0..split).map(move |index| Shard { index, of: split })
    }

    /// Returns the shard's part of a dimension; parts differ by one at most where it cannot be divided evenly.
    pub fn range(self, size: usize) -> Range<usize> {
        size * self.index / self.of..size * (self.index + 1) / self.of
    }

    /// Returns the shard's key and value heads of so many: one of them is on several shards where there are more shards.
    pub fn kv_heads(self, kv_heads: usize) -> Range<usize> {
        let part = self.range(kv_heads);
        part.start..part.end.max(part.start + 1)
    }
}

impl ModelDescription {
    /// Makes sure that a model can be divided by `split`.
    ///
    /// # Errors
    /// When a dimension cannot.
    pub fn check_split(&self, split: usize) -> Result<(), SplitError> {
        let breaks = self.undivided(split);
        if breaks.is_empty() {
            return Ok(());
        }
        Err(SplitError {
            split,
            breaks,
            valid: self.splits(),
        })
    }

    /// Returns every number of shards, up to a thousand, that the model can be divided into.
    pub fn splits(&self) -> Vec<usize> {
        (1..=self.heads.min(1000))
            .filter(|split| self.undivided(*split).is_empty())
            .collect()
    }

    /// Returns the model that one shard has; its vocabulary is the part that the shard's head gives logits for.
    pub fn of_shard(&self, shard: Shard) -> ModelDescription {
        let mut experts = self.experts.clone();
        if let Some(experts) = &mut experts {
            experts.width /= shard.of;
        }
        ModelDescription {
            vocabulary: shard.range(self.vocabulary).len(),
            heads: self.heads / shard.of,
            kv_heads: shard.kv_heads(self.kv_heads).len(),
            mlp_width: self.mlp_width / shard.of,
            experts,
            ..self.clone()
        }
    }

    /// Returns the dimensions that `split` does not divide, in words.
    fn undivided(&self, split: usize) -> Vec<String> {
        let mut breaks = Vec::new();
        let divides = |size: usize| split > 0 && size.is_multiple_of(split);
        if !divides(self.heads) {
            breaks.push(format!("{} query heads", self.heads));
        }
        if !divides(self.kv_heads) && !split.is_multiple_of(self.kv_heads) {
            breaks.push(format!("{} key and value heads", self.kv_heads));
        }
        if self.vocabulary < split {
            breaks.push(format!("a vocabulary of {}", self.vocabulary));
        }
        let some_experts = (0..self.layers).any(|layer| self.experts_of(layer).is_some());
        let all_experts = (0..self.layers).all(|layer| self.experts_of(layer).is_some());
        if !all_experts && !divides(self.mlp_width) {
            breaks.push(format!("an MLP of width {}", self.mlp_width));
        }
        match &self.experts {
            Some(experts) if some_experts && !divides(experts.width) => {
                breaks.push(format!("experts of width {}", experts.width));
            }
            _ => {}
        }
        breaks
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn model(heads: usize, kv_heads: usize, mlp_width: usize) -> ModelDescription {
        let config = serde_json::json!({
            "architectures": ["LlamaForCausalLM"], "vocab_size": 101, "hidden_size": 8, "head_dim": 4,
            "intermediate_size": mlp_width, "num_hidden_layers": 1, "num_attention_heads": heads,
            "num_key_value_heads": kv_heads, "max_position_embeddings": 64, "rms_norm_eps": 1e-5,
        });
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), config.to_string()).unwrap();
        ModelDescription::open(folder.path()).unwrap()
    }

    #[test]
    fn the_error_names_what_breaks_and_what_works() {
        let nine = model(9, 3, 1536);
        assert_eq!(nine.splits(), [1, 3]);
        assert_eq!(
            nine.check_split(2).unwrap_err().to_string(),
            "a split of 2 does not divide 9 query heads and 3 key and value heads; use 1 or 3"
        );
        assert_eq!(
            nine.check_split(9).unwrap_err().to_string(),
            "a split of 9 does not divide an MLP of width 1536; use 1 or 3"
        );
        assert!(nine.check_split(0).is_err());
        assert_eq!(model(7, 7, 100).splits(), [1]);
        assert_eq!(model(8, 2, 64).splits(), [1, 2, 4, 8]);
    }

    proptest! {
        #[test]
        fn shards_cover_everything_and_keep_heads_with_theirs(
            kv_heads in 1usize..9, group in 1usize..9, inner in 1usize..20, split in 1usize..70,
        ) {
            let whole = model(kv_heads * group, kv_heads, inner * 24);
            if whole.check_split(split).is_err() {
                return Ok(());
            }
            let (mut heads, mut tokens) = (0, 0);
            for shard in Shard::all(split) {
                let part = whole.of_shard(shard);
                let queries = shard.range(whole.heads);
                let kv = shard.kv_heads(kv_heads);
                prop_assert_eq!((queries.start, queries.len()), (heads, part.heads));
                prop_assert_eq!(shard.range(whole.vocabulary).start, tokens);
                prop_assert!(part.heads.is_multiple_of(part.kv_heads));
                for (local, head) in queries.enumerate() {
                    prop_assert_eq!(head / group, kv.start + local / (part.heads / part.kv_heads));
                }
                heads += part.heads;
                tokens += part.vocabulary;
            }
            prop_assert_eq!((heads, tokens), (whole.heads, whole.vocabulary));
        }
    }
}
