//! The arithmetic of one way to run a model: each formula with its numbers.

use crate::accelerator::{Placement, Role};
use crate::amounts::{bytes, grouped};
use crate::cost::CostRow;
use crate::fit::{Fitting, Question};
use crate::hardware::Hardware;
use crate::profile::DeviceProfile;
use vastrelay_weights::description::PAGE_TOKENS;

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

    fn seconds(name: &'static str, seconds: f64, formula: &str) -> Term {
        Term {
            name,
            amount: Amount::Seconds(seconds),
            formula: formula.to_owned(),
        }
    }
}

/// Returns how the memory of one device is divided.
pub fn of_memory(question: &Question<'_>, hardware: &dyn Hardware, split: usize, fitting: &Fitting) -> Vec<Term> {
    let placement = question.placement(split);
    let (shard, plan) = (placement.largest_shard(), &fitting.plan);
    let mut terms = vec![Term::bytes(
        "memory limit",
        plan.budget,
        format!("{} × {} of memory", question.memory_share, bytes(plan.device)),
    )];
    terms.extend(hardware.arithmetic(&placement));
    terms.push(Term::bytes(
        "KV, a token",
        plan.page() / PAGE_TOKENS,
        format!(
            "2 × {} KV heads × {} B × {} layers",
            shard.kv_heads,
            question.precisions.kv.head_bytes(shard.head_dim),
            shard.layers
        ),
    ));
    let left = plan.budget - plan.weights - plan.workspace - plan.process;
    terms.push(Term::bytes(
        "left for KV",
        left,
        "limit − weights − workspace − process".into(),
    ));
    terms.push(Term::bytes(
        "a sequence",
        plan.sequence(),
        format!("{} tokens in pages of {PAGE_TOKENS}", grouped(plan.context)),
    ));
    terms.push(Term {
        name: "sequences",
        amount: Amount::Count(fitting.full),
        formula: "left for KV ÷ a sequence".into(),
    });
    terms
}

/// Returns how many lanes decode in a step that all callers take part in, after how many tokens each, and what that step's time goes into.
pub fn of_step(
    question: &Question<'_>,
    hardware: &dyn Hardware,
    split: usize,
    fitting: &Fitting,
) -> (usize, usize, Vec<Term>) {
    let typical = question.typical;
    let (lanes, at) = (fitting.predicted.lanes, typical.prompt + typical.output / 2);
    let cost = hardware.cost(&question.placement(split));
    let step = cost.step(&vec![CostRow::decode(at); lanes]);
    let terms = if hardware.is_simulated() {
        vec![
            Term::seconds(
                "matrices",
                step.matrices,
                "the slower of reading weights and multiplying",
            ),
            Term::seconds(
                "attention",
                step.attention,
                "the slower of reading pages and multiplying",
            ),
            Term::seconds("head", step.head, "logits"),
            Term::seconds("launches", step.launches, "8 kernels a layer, and 4"),
            Term::seconds("sums", step.sums, "two for each layer, around the ring of devices"),
            Term::seconds("= step", step.total(), ""),
        ]
    } else {
        vec![
            Term::seconds("matrices", step.matrices, "as measured with so many rows"),
            Term::seconds("attention", step.attention, "as measured, by pairs of tokens"),
            Term::seconds("head", step.head, "logits, and choosing tokens"),
            Term::seconds("besides", step.launches, "all else, for each layer and token"),
            Term::seconds("= step", step.total(), ""),
        ]
    };
    (lanes, at, terms)
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
