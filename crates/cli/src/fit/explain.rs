//! The arithmetic of one way to run a model, for people.

use crate::output::duration;
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_planner::arithmetic::{of_memory, of_step};
use vastrelay_planner::terms::{Amount, Term};
use vastrelay_planner::{Fitting, Hardware, Question};

/// Returns the lines.
pub fn lines(question: &Question<'_>, hardware: &dyn Hardware, split: usize, fitting: &Fitting) -> Vec<String> {
    let mut lines = vec![if hardware.is_simulated() {
        format!("The arithmetic of one of {split} × {}:", hardware.name())
    } else {
        "The arithmetic:".to_owned()
    }];
    lines.extend(of_memory(question, hardware, split, fitting).iter().map(line));
    let (lanes, at, step) = of_step(question, hardware, split, fitting);
    lines.push(String::new());
    lines.push(format!(
        "A step in which {lanes} decode after {at} tokens each, predicted:"
    ));
    lines.extend(step.iter().map(line));
    lines
}

fn line(term: &Term) -> String {
    let amount = match term.amount {
        Amount::Bytes(count) => bytes(count),
        Amount::Count(count) => grouped(count),
        Amount::Seconds(seconds) => duration(seconds),
    };
    let line = format!("  {:<13}{amount:>10}  {}", term.name, term.formula);
    line.trim_end().to_owned()
}
