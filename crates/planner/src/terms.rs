//! Lines of arithmetic.

use crate::accelerator::{Placement, Role};
use crate::amounts::{bytes, grouped};
use crate::profile::DeviceProfile;

/// One line of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Term {
    /// What is reckoned.
    pub name: &'static str,
    /// What it comes to.
    pub amount: Amount,
    /// How.
    pub formula: String,
}

/// What a term comes to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Amount {
    /// Memory of one device.
    Bytes(usize),
    /// A number of things.
    Count(usize),
    /// Time.
    Seconds(f64),
}

impl Term {
    /// Returns a term of memory.
    pub fn bytes(name: &'static str, count: usize, formula: String) -> Term {
        Term {
            name,
            amount: Amount::Bytes(count),
            formula,
        }
    }

    pub(crate) fn seconds(name: &'static str, seconds: f64, formula: &str) -> Term {
        Term {
            name,
            amount: Amount::Seconds(seconds),
            formula: formula.to_owned(),
        }
    }
}

/// Returns what weights, workspace and process take of a simulated device.
pub(crate) fn of_profile(profile: &DeviceProfile, placement: &Placement<'_>) -> Vec<Term> {
    let (shard, parts) = (placement.largest_shard(), placement.weight_parts());
    let kind = |name: &str| placement.kind(name, Role::of(name, &[1, 1])).to_string();
    let (d, vocabulary) = (grouped(shard.width), grouped(shard.vocabulary));
    let mut terms = vec![Term::bytes(
        "embedding",
        parts.embedding,
        format!("{vocabulary} tokens × {d}, {}", kind("model.embed_tokens.weight")),
    )];
    if parts.head > 0 {
        let formula = format!("{vocabulary} tokens × {d}, {}", kind("lm_head.weight"));
        terms.push(Term::bytes("head", parts.head, formula));
    }
    terms.push(Term::bytes(
        "attention",
        parts.attention,
        format!(
            "{} layers × (2 × {} heads + 2 × {} KV heads) × {} × {d}, {}",
            shard.layers,
            shard.heads,
            shard.kv_heads,
            shard.head_dim,
            kind("model.layers.0.self_attn.q_proj.weight")
        ),
    ));
    if parts.mlp > 0 {
        let formula = format!(
            "layers × 3 × {} × {d}, {}",
            grouped(shard.mlp_width),
            kind("model.layers.0.mlp.up_proj.weight")
        );
        terms.push(Term::bytes("MLP", parts.mlp, formula));
    }
    if let Some(experts) = &shard.experts {
        let (count, width) = (experts.count, grouped(experts.width));
        let formula = format!("layers × {count} experts × 3 × {width} × {d}, and routers");
        terms.push(Term::bytes("experts", parts.experts, formula));
    }
    terms.push(Term::bytes("norms", parts.vectors, "vectors, in f32".into()));
    terms.push(Term::bytes("= weights", parts.total(), String::new()));
    terms.push(Term::bytes(
        "workspace",
        placement.workspace(),
        format!(
            "{} tokens a step × {} numbers × 2 B + {} logits × 4 B + page tables of {}",
            placement.step_budget,
            grouped(placement.workspace_row()),
            grouped(placement.width * shard.vocabulary),
            bytes(placement.tables())
        ),
    ));
    let process = profile.reserve.as_u64() as usize;
    terms.push(Term::bytes(
        "process",
        process,
        "driver and program, as the profile says".into(),
    ));
    terms
}
