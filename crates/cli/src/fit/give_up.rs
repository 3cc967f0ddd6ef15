//! What giving up a setting would free.

use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_planner::{Hardware, Question, WhyNot};
use vastrelay_serving::{KvPrecision, Precision};

/// Returns a line for each setting that can be given up.
pub fn lines(question: &Question<'_>, hardware: &dyn Hardware, split: usize) -> Vec<String> {
    let free = Question {
        concurrency: None,
        ..question.clone()
    };
    let now = needed(&free, hardware, split);
    let mut lines = Vec::new();
    for (name, changed) in changes(&free) {
        let (before, after) = (now, needed(&changed, hardware, split));
        let freed = before.saturating_sub(after);
        if freed == 0 {
            continue;
        }
        let fits = match changed.split(hardware, split).verdict {
            Ok(fitting) => format!(
                "then the limit holds {} at full context, or {} typical ones",
                grouped(fitting.plan.full_sequences().in_limit()),
                grouped(fitting.plan.typical_sequences().in_limit())
            ),
            Err(WhyNot::Memory(_)) => "then it still does not fit".into(),
            Err(reason) => reason.to_string(),
        };
        lines.push(format!("  {name:<22} frees {:>10} on each; {fits}", bytes(freed)));
    }
    lines
}

/// Returns the bytes that weights, workspace, process and one sequence take on a device.
fn needed(question: &Question<'_>, hardware: &dyn Hardware, split: usize) -> usize {
    let sizes = hardware.sizes(&question.placement(split));
    let pages = sizes.pools.iter().map(|pool| pool.page * pool.per_sequence);
    sizes.weights + sizes.workspace + sizes.process + pages.sum::<usize>()
}

fn changes<'a>(question: &Question<'a>) -> Vec<(String, Question<'a>)> {
    let mut changes = Vec::new();
    for word in ["bf16", "int8", "int4"] {
        let mut changed = question.clone();
        changed.precisions.weights = Precision::of(word, None).expect("a precision");
        changes.push((format!("--weights {word}"), changed));
    }
    let mut changed = question.clone();
    changed.precisions.kv = KvPrecision::Int8;
    changes.push(("--kv int8".into(), changed));
    for (name, value) in [("--context", &mut 0), ("--width", &mut 0)] {
        let mut changed = question.clone();
        let setting = if name == "--context" {
            &mut changed.context
        } else {
            &mut changed.width
        };
        *setting = (*setting / 2).max(1);
        *value = *setting;
        changes.push((format!("{name} {value}"), changed));
    }
    changes
}
