//! The arithmetic of one way to run a model: each formula with its numbers.

use crate::amounts::{bytes, grouped};
use crate::cost::CostRow;
use crate::fit::{Fitting, Question};
use crate::hardware::Hardware;
use crate::terms::{Amount, Term};
use vastrelay_weights::description::PAGE_TOKENS;

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
        amount: Amount::Count(fitting.plan.full_sequences().in_limit()),
        formula: "left for KV ÷ a sequence".into(),
    });
    terms.push(Term::bytes(
        "KV pool",
        plan.kv_pool(),
        format!(
            "two batches of {} sequences of {} tokens, and no more than is left",
            grouped(question.width),
            grouped(plan.typical)
        ),
    ));
    terms.push(Term {
        name: "at once",
        amount: Amount::Count(fitting.plan.full_sequences().at_once),
        formula: format!(
            "sequences of {} tokens; the pool holds {}, the batch has {} lanes",
            grouped(plan.context),
            grouped(fitting.plan.full_sequences().in_pool),
            grouped(question.width)
        ),
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
            Term::seconds("all else", step.launches, "for each layer and token"),
            Term::seconds("= step", step.total(), ""),
        ]
    };
    (lanes, at, terms)
}
