//! The arithmetic of memory, line by line.

use vastrelay_planner::amounts::{bytes, count_of, grouped};
use vastrelay_planner::{MemoryPlan, PoolPlan};
use vastrelay_service::manage::capacity::capacity_status;
use vastrelay_serving::{KvPrecision, PAGE_TOKENS};
use vastrelay_wire::manage::CapacityStatus;

/// Returns how a plan divides its budget on this machine, or on each of some simulated devices.
pub fn lines(plan: &MemoryPlan, kv: KvPrecision, simulated: bool) -> Vec<String> {
    let (of, packed, process) = if simulated {
        ("each device", "in the precision they run in", "driver and program")
    } else {
        (
            "this device",
            "packed, in the precision they run in",
            "program, stacks, tokenizer and records",
        )
    };
    let part =
        |sign: &str, name: &str, count: usize, what: &str| format!("{sign}{name:<14}{:>10}  {what}", bytes(count));
    let of = format!("of {} on {of}", bytes(plan.device));
    let mut lines = vec![
        part("  ", "memory limit", plan.budget, &of),
        part("− ", "weights", plan.weights, packed),
        part(
            "− ",
            "workspace",
            plan.workspace,
            "activations of the largest step and tables",
        ),
        part("− ", "process", plan.process, process),
    ];
    lines.extend(plan.pools.iter().map(|pool| {
        let what = format!(
            "{} pages × {} ({PAGE_TOKENS} tokens a page, keys and values in {}{})",
            grouped(pool.pages),
            bytes(pool.sizes.page),
            kv.name(),
            layers_of(plan, pool)
        );
        part("− ", "KV pool", pool.bytes(), &what)
    }));
    lines.push(part("= ", "free", plan.free(), "").trim_end().to_owned());
    lines.extend(capacity(&capacity_status(plan), plan.width));
    lines
}

/// Says how many sequences run at once with a pool and a batch of so many lanes; and, apart, what the memory limit could hold.
pub fn capacity(capacity: &CapacityStatus, width: usize) -> Vec<String> {
    let CapacityStatus { full, typical, .. } = capacity;
    let lanes = count_of(width, "lane");
    let is_short = typical.tokens < full.tokens;
    let mut lines = vec![format!(
        "at once: {} of {} tokens",
        count_of(full.at_once, "sequence"),
        grouped(full.tokens)
    )];
    let mut pool = grouped(full.in_pool);
    if is_short {
        lines.push(format!(
            "  or {} typical ones of {} tokens",
            grouped(typical.at_once),
            grouped(typical.tokens)
        ));
        pool = format!("{pool} or {}", grouped(typical.in_pool));
    }
    lines.push(format!("  the KV pool holds {pool}, the batch has {lanes}"));
    if full.in_pool < width {
        let key = match full.in_pool + full.in_rest < width {
            true => "more than the memory limit leaves".into(),
            false => format!("memory.pages = {}", capacity.full_batch_pages),
        };
        lines.push(format!(
            "  {lanes} of {} tokens each would need a KV pool of {}: {key}",
            grouped(full.tokens),
            bytes(capacity.full_batch_bytes)
        ));
    }
    if full.in_rest > 0 {
        lines.push(format!(
            "the rest of the memory limit could hold {} more of {} tokens",
            grouped(full.in_rest),
            grouped(full.tokens)
        ));
    }
    lines
}

/// Says which layers a pool is for, where there are several or pages are given back.
fn layers_of(plan: &MemoryPlan, pool: &PoolPlan) -> String {
    let layers = pool.sizes.reach.layers;
    match pool.sizes.reach.window {
        Some(window) => format!("; {layers} layers with a window of {} tokens", grouped(window)),
        None if plan.pools.len() > 1 => format!("; {layers} layers without a window"),
        None => String::new(),
    }
}
