//! The arithmetic of one way to run a model, each formula with its numbers.

use crate::output::duration;
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_planner::{CostModel, CostRow, DeviceProfile, Fitting, Question};
use vastrelay_serving::PAGE_TOKENS;

/// Returns the lines.
pub fn lines(question: &Question<'_>, profile: &DeviceProfile, split: usize, fitting: &Fitting) -> Vec<String> {
    let placement = question.placement(split);
    let shard = placement.largest_shard();
    let (parts, plan) = (placement.weight_parts(), &fitting.plan);
    let of = |name: &str, count: usize, formula: String| format!("  {name:<13}{:>10}  {formula}", bytes(count));
    let mut lines = vec![format!("The arithmetic of one of {split} × {}:", profile.name)];
    lines.push(of(
        "memory limit",
        plan.budget,
        format!("{} × {} of memory", question.memory_share, bytes(plan.device)),
    ));
    let kind = |name: &str| {
        let role = vastrelay_planner::accelerator::Role::of(name, &[1, 1]);
        placement.kind(name, role).to_string()
    };
    let (d, e) = (grouped(shard.width), shard.head_dim);
    lines.push(of(
        "embedding",
        parts.embedding,
        format!(
            "{} tokens × {d}, {}",
            grouped(shard.vocabulary),
            kind("model.embed_tokens.weight")
        ),
    ));
    if parts.head > 0 {
        lines.push(of(
            "head",
            parts.head,
            format!("{} tokens × {d}, {}", grouped(shard.vocabulary), kind("lm_head.weight")),
        ));
    }
    lines.push(of(
        "attention",
        parts.attention,
        format!(
            "{} layers × (2 × {} heads + 2 × {} KV heads) × {e} × {d}, {}",
            shard.layers,
            shard.heads,
            shard.kv_heads,
            kind("model.layers.0.self_attn.q_proj.weight")
        ),
    ));
    if parts.mlp > 0 {
        lines.push(of(
            "MLP",
            parts.mlp,
            format!(
                "layers × 3 × {} × {d}, {}",
                grouped(shard.mlp_width),
                kind("model.layers.0.mlp.up_proj.weight")
            ),
        ));
    }
    if let Some(experts) = &shard.experts {
        lines.push(of(
            "experts",
            parts.experts,
            format!(
                "layers × {} experts × 3 × {} × {d}, and routers",
                experts.count,
                grouped(experts.width)
            ),
        ));
    }
    lines.push(of("norms", parts.vectors, "vectors, in f32".into()));
    lines.push(of("= weights", plan.weights, String::new()).trim_end().to_owned());
    lines.push(of(
        "workspace",
        plan.workspace,
        format!(
            "{} tokens a step × {} numbers × 2 B + {} logits × 4 B + page tables of {}",
            question.step_budget,
            grouped(placement.workspace_row()),
            grouped(question.width * shard.vocabulary),
            bytes(placement.tables())
        ),
    ));
    lines.push(of(
        "process",
        plan.process,
        "driver and program, as the profile says".into(),
    ));
    lines.push(of(
        "KV, a token",
        placement.token_bytes(),
        format!(
            "2 × {} KV heads × {} B × {} layers",
            shard.kv_heads,
            question.precisions.kv.head_bytes(e),
            shard.layers
        ),
    ));
    let left = plan.budget - plan.weights - plan.workspace - plan.process;
    lines.push(of("left for KV", left, "limit − weights − workspace − process".into()));
    lines.push(of(
        "a sequence",
        plan.sequence(),
        format!("{} tokens in pages of {PAGE_TOKENS}", grouped(plan.context)),
    ));
    lines.push(format!(
        "  sequences    {:>10}  left for KV ÷ a sequence",
        grouped(fitting.full)
    ));
    lines.extend(step(question, profile, split, fitting));
    lines
}

/// Returns what a step costs in which all callers decode.
fn step(question: &Question<'_>, profile: &DeviceProfile, split: usize, fitting: &Fitting) -> Vec<String> {
    let typical = question.typical;
    let (lanes, at) = (fitting.predicted.lanes, typical.prompt + typical.output / 2);
    let cost = CostModel::new(&question.placement(split), profile).step(&vec![CostRow::decode(at); lanes]);
    let part = |name: &str, seconds: f64, what: &str| format!("  {name:<13}{:>10}  {what}", duration(seconds));
    vec![
        String::new(),
        format!("A step in which {lanes} decode after {at} tokens each, predicted:"),
        part(
            "matrices",
            cost.matrices,
            "the slower of reading weights and multiplying",
        ),
        part(
            "attention",
            cost.attention,
            "the slower of reading pages and multiplying",
        ),
        part("head", cost.head, "logits"),
        part("launches", cost.launches, "8 kernels a layer, and 4"),
        part("sums", cost.sums, "two for each layer, around the ring of devices"),
        part("= step", cost.total(), ""),
    ]
    .into_iter()
    .map(|line| line.trim_end().to_owned())
    .collect()
}
