//! The arithmetic of memory, line by line.

use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_planner::{MemoryPlan, PoolPlan};
use vastrelay_serving::{KvPrecision, PAGE_TOKENS};

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
    lines.push(format!(
        "{} sequences of {} tokens fit, {} each",
        grouped(plan.full_context_sequences()),
        grouped(plan.context),
        bytes(plan.sequence())
    ));
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
