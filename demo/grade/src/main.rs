//! Prints how well the demo model answers what it was never trained on.

use anyhow::Result;
use std::collections::BTreeMap;
use vastrelay_demo_grade::{Graded, Grader, demo_folder, grade, load, pass_rate, read_set};

#[tokio::main]
async fn main() -> Result<()> {
    let demo = demo_folder();
    let grader = Grader::open(&demo)?;
    let replica = load(&demo.join("models").join("pierdesk-1"))?;
    println!("pierdesk@1, greedy answers to wordings never trained on\n");
    let mut good = true;
    for (set, wanted) in [("questions", 0.90), ("follow-ups", 0.80)] {
        let graded = grade(&replica, &grader, read_set(&demo, set)?).await?;
        let rate = pass_rate(&graded);
        good &= rate >= wanted;
        let verdict = if rate >= wanted { "met" } else { "MISSED" };
        println!(
            "{set}: {} asked, {:.1} % pass; wanted {:.0} %: {verdict}",
            graded.len(),
            rate * 100.0,
            wanted * 100.0
        );
        by_kind(&graded);
        for failed in graded.iter().filter(|graded| graded.fault.is_some()) {
            let question = failed
                .item
                .messages
                .last()
                .map_or("", |message| message.content.as_str());
            println!(
                "  ✗ {question}\n    said: {}\n    {}",
                failed.said,
                failed.fault.as_deref().unwrap_or("")
            );
        }
        println!();
    }
    std::process::exit(if good { 0 } else { 1 });
}

fn by_kind(graded: &[Graded]) {
    let mut kinds: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for one in graded {
        let kind = one.item.kind.split('/').next().unwrap_or_default();
        let entry = kinds.entry(kind).or_default();
        entry.1 += 1;
        entry.0 += usize::from(one.fault.is_none());
    }
    let line: Vec<String> = kinds
        .iter()
        .map(|(kind, (passed, all))| format!("{kind} {passed}/{all}"))
        .collect();
    println!("  {}", line.join("  "));
}
