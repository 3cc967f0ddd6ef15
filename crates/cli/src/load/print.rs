//! Runs and comparisons as text.

use crate::output::{ago, duration, line};
use comfy_table::{CellAlignment, Table, presets};
use vastrelay_loadtest::compare::{Comparison, Unit, Verdict};
use vastrelay_loadtest::report::{headline, level_row, reuse_rows, verdict};
use vastrelay_loadtest::{Run, Summary};
use vastrelay_planner::amounts::{bytes, count_of, grouped};
use vastrelay_wire::manage::Spread;

/// Prints a list of runs.
pub fn list(runs: &[Run]) {
    if runs.is_empty() {
        line("no runs yet; start one with `vastrelay load run`");
        return;
    }
    let now = vastrelay_store::milliseconds_since_1970();
    let mut table = plain_table();
    table.set_header([
        "ago",
        "run",
        "name",
        "requests",
        "errors",
        "tokens/s",
        "TTFT p50",
        "TTFT p99",
        "ITL p50",
        "ITL p99",
        "limited by",
    ]);
    for run in runs {
        let summary = &run.summary;
        table.add_row([
            ago((now - run.begun_ms) as f64 / 1000.0),
            run.id.clone(),
            run.name.clone(),
            grouped(summary.sent),
            grouped(summary.sent - summary.done),
            grouped(summary.output_rate.round() as usize),
            duration(summary.ttft.p50),
            duration(summary.ttft.p99),
            duration(summary.itl.p50),
            duration(summary.itl.p99),
            summary.limit.name().to_owned(),
        ]);
    }
    right(&mut table, &[0, 3, 4, 5, 6, 7, 8, 9]);
    line(format!("{table}"));
}

/// Prints the report of a run.
pub fn run(run: &Run) {
    let summary = &run.summary;
    line(format!("{} ({})", run.name, run.id));
    line(headline(run));
    match &run.ended_because {
        Some(why) => line(format!("ended early: {why}")),
        None if run.stopped_early => line("stopped early"),
        None => {}
    }
    line("");
    let mut table = plain_table();
    table.set_header(["", "p50", "p90", "p95", "p99", "max", "count"]);
    let rows = [
        ("TTFT", summary.ttft),
        ("ITL", summary.itl),
        ("end-to-end", summary.total),
        ("refusals", summary.refusal),
    ];
    for (name, spread) in rows.into_iter().filter(|(_, spread)| spread.count > 0) {
        table.add_row(spread_row(name, &spread));
    }
    right(&mut table, &[1, 2, 3, 4, 5, 6]);
    line(format!("{table}\n"));
    metrics(run, summary);
    levels(summary);
    by_reuse(run);
    for note in &summary.notes {
        line(format!("\nnote: {note}"));
    }
    line(format!(
        "\n{}: {}",
        verdict(summary).to_lowercase(),
        summary.limit_reason
    ));
}

fn metrics(run: &Run, summary: &Summary) {
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    let answered = format!(
        "{} of {} in {:.1} s",
        grouped(summary.done),
        grouped(summary.sent),
        run.seconds
    );
    let rate = |rate: f64| grouped(rate.round() as usize);
    let mut rows = vec![
        (
            "answered",
            answered,
            format!(
                "{:.1} requests/s, {:.1} running on average",
                summary.request_rate, summary.mean_running
            ),
        ),
        (
            "tokens/s out",
            rate(summary.output_rate),
            format!("per user p50 {:.0}", summary.user_rate.p50),
        ),
        (
            "tokens/s in",
            rate(summary.input_rate),
            format!(
                "{} of the prompt tokens came from the cache",
                percent(summary.reused_share)
            ),
        ),
        (
            "kept the pace",
            percent(summary.kept_pace),
            format!("of the streams never fell behind {} tokens/s", run.workload.pace),
        ),
    ];
    for (kind, count) in &summary.errors {
        rows.push(("not answered", grouped(*count), kind.clone()));
    }
    if let (Some(queue), Some(lanes), Some(pages)) = (summary.deepest_queue, summary.lanes_share, summary.pages_share) {
        let preempted = summary.preemptions.unwrap_or(0);
        rows.push((
            "deepest queue",
            grouped(queue),
            format!("{} of the lanes in use on average", percent(lanes)),
        ));
        rows.push((
            "KV pages",
            percent(pages),
            format!("in use at most; {}", count_of(preempted as usize, "preemption")),
        ));
    }
    if let Some(busy) = summary.busy_share {
        rows.push(("device busy", percent(busy), "of the time".into()));
    }
    for (name, value, note) in rows {
        line(format!("{name:<15}{value:>20}   {note}"));
    }
}

/// Prints each level of a load that has several.
fn levels(summary: &Summary) {
    if summary.levels.len() < 2 {
        return;
    }
    let mut table = plain_table();
    table.set_header([
        "users", "tokens/s", "gain", "TTFT p50", "ITL p50", "lanes", "queue", "device", "",
    ]);
    for level in &summary.levels {
        let mut row = level_row(level).to_vec();
        row.push(if level.is_knee { "knee".into() } else { String::new() });
        table.add_row(row);
    }
    right(&mut table, &[0, 1, 2, 3, 4, 5, 6, 7]);
    line(format!("\n{table}"));
}

/// Prints the times with and without reuse, where one prompt was sent again and again.
fn by_reuse(run: &Run) {
    let rows = reuse_rows(run);
    if rows.is_empty() {
        return;
    }
    let mut table = plain_table();
    table.set_header(["", "requests", "TTFT", "end-to-end"]);
    table.add_rows(rows);
    right(&mut table, &[1, 2, 3]);
    line(format!("\nthe same prompt, mean ± standard deviation\n{table}"));
}

fn spread_row(name: &str, spread: &Spread) -> Vec<String> {
    let mut row = vec![name.to_owned()];
    row.extend([spread.p50, spread.p90, spread.p95, spread.p99, spread.max].map(duration));
    row.push(grouped(spread.count as usize));
    row
}

/// Prints a comparison.
pub fn comparison(comparison: &Comparison) {
    let (a, b) = &comparison.names;
    line(format!("A  {a}\nB  {b}\n"));
    let mut table = plain_table();
    table.set_header(["", "A", "B", "B ÷ A", "95 % interval", ""]);
    for row in &comparison.figures {
        let value = |value: f64| match row.unit {
            Unit::Seconds => duration(value),
            Unit::TokensPerSecond => grouped(value.round() as usize),
        };
        let verdict = match row.verdict {
            Verdict::Better => "better",
            Verdict::Worse => "worse",
            Verdict::Noise => "noise",
            Verdict::Unknown => "too little to tell",
        };
        let interval = row
            .interval
            .map_or("–".into(), |(low, high)| format!("{low:.3} … {high:.3}"));
        table.add_row([
            row.name.to_owned(),
            value(row.a),
            value(row.b),
            format!("{:.2}", row.ratio),
            interval,
            verdict.to_owned(),
        ]);
    }
    right(&mut table, &[1, 2, 3, 4]);
    line(format!("{table}"));
    if comparison.differences.is_empty() {
        line("\nnothing differs between the set-ups");
    } else {
        line("\ndifferent settings");
        let mut table = plain_table();
        for difference in &comparison.differences {
            let shown = |value: &str| shown(&difference.what, value);
            table.add_row([difference.what.clone(), shown(&difference.a), shown(&difference.b)]);
        }
        line(format!("{table}"));
    }
    for warning in &comparison.warnings {
        line(format!("\nnote: {warning}"));
    }
}

/// Returns the value of a setting as other reports show it: sizes in their unit, counts in groups of three digits.
fn shown(what: &str, value: &str) -> String {
    let Ok(count) = value.parse::<usize>() else {
        return value.to_owned();
    };
    let last = what.rsplit('.').next().unwrap_or(what);
    match last {
        "weights" | "kv_pool" | "page" | "workspace" | "process" | "device" if what.contains(".memory.") => {
            bytes(count)
        }
        "seed" => value.to_owned(),
        _ => grouped(count),
    }
}

fn plain_table() -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table
}

fn right(table: &mut Table, columns: &[usize]) {
    for index in columns {
        if let Some(column) = table.column_mut(*index) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
}
