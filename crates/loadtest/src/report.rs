//! How a run looks on paper: one HTML file with its charts in it, or a row of CSV for each request.

mod charts;

use crate::levels::Level;
use crate::run::Run;
use crate::summary::{RepeatTimes, Summary};
use std::fmt::Write;
use vastrelay_wire::manage::Spread;

/// Returns a duration with a unit that suits it.
pub fn duration(seconds: f64) -> String {
    match seconds * 1000.0 {
        ms if ms < 10.0 => format!("{ms:.2} ms"),
        ms if ms < 100.0 => format!("{ms:.1} ms"),
        ms if ms < 10_000.0 => format!("{ms:.0} ms"),
        ms => format!("{:.1} s", ms / 1000.0),
    }
}

/// Returns the whole report as one HTML page that needs nothing else.
///
/// # Errors
/// When a chart cannot be drawn.
pub fn html(run: &Run) -> Result<String, String> {
    let summary = &run.summary;
    let mut page = String::new();
    let title = escape(&run.name);
    let _ = write!(
        page,
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}</title><style>{STYLE}</style></head><body><header><h1>{title}</h1><p>{}</p></header>",
        escape(&headline(run))
    );
    let _ = write!(
        page,
        "<p class=\"limit\"><b>{}:</b> {}</p>",
        escape(&verdict(summary)),
        escape(&summary.limit_reason)
    );
    for note in &summary.notes {
        let _ = write!(page, "<p class=\"limit\"><b>Note:</b> {}</p>", escape(note));
    }
    page.push_str("<section class=\"figures\">");
    for (value, name) in tiles(run) {
        let _ = write!(
            page,
            "<div><b>{}</b><span>{}</span></div>",
            escape(&value),
            escape(&name)
        );
    }
    page.push_str("</section><table><thead><tr><th></th><th>p50</th><th>p90</th><th>p95</th><th>p99</th><th>max</th><th>count</th></tr></thead><tbody>");
    for (name, spread) in [
        ("TTFT", &summary.ttft),
        ("ITL", &summary.itl),
        ("end-to-end", &summary.total),
        ("refusals", &summary.refusal),
    ] {
        if spread.count > 0 {
            page.push_str(&spread_row(name, spread));
        }
    }
    page.push_str("</tbody></table>");
    page.push_str(&levels_table(run));
    page.push_str(&reuse_table(run));
    page.push_str("<section class=\"charts\">");
    for (title, chart) in charts::all(run)? {
        let _ = write!(
            page,
            "<figure><figcaption>{}</figcaption>{chart}</figure>",
            escape(&title)
        );
    }
    page.push_str("</section>");
    if !summary.errors.is_empty() {
        page.push_str("<h2>Not answered</h2><table><thead><tr><th>kind</th><th>requests</th></tr></thead><tbody>");
        for (kind, count) in &summary.errors {
            let _ = write!(page, "<tr><td>{}</td><td>{count}</td></tr>", escape(kind));
        }
        page.push_str("</tbody></table>");
    }
    page.push_str("<details><summary>Everything needed to repeat it</summary><pre>");
    let repeat =
        serde_json::json!({"id": run.id, "begun_ms": run.begun_ms, "workload": run.workload, "setup": run.setup});
    page.push_str(&escape(
        &serde_json::to_string_pretty(&repeat).map_err(|e| e.to_string())?,
    ));
    page.push_str("</pre></details><p class=\"note\">Durations count from the moment when a request was due, not from when it could be sent. \
        TTFT: time to first token. ITL: each gap between two tokens of one stream.</p></body></html>");
    Ok(page)
}

/// Returns what limits a run, or that it does not tell.
pub fn verdict(summary: &Summary) -> String {
    match summary.limit.is_known() {
        true => format!("Limited by {}", summary.limit.name()),
        false => "The limit is not known".into(),
    }
}

/// Returns one line on what was done.
pub fn headline(run: &Run) -> String {
    let workload = &run.workload;
    let output = match (&workload.output, workload.force_length) {
        (None, _) => "answers as long as the model makes them".into(),
        (Some(lengths), true) => format!("answers of exactly {lengths} tokens"),
        (Some(lengths), false) => format!("answers of up to {lengths} tokens"),
    };
    let simulated = match &run.setup.before {
        Some(endpoint) if endpoint.simulated => format!(" on {} (simulated)", endpoint.device),
        _ => String::new(),
    };
    format!(
        "{}{simulated} · {} · {} · prompts: {} · {output} · seed {}",
        workload.model, workload.arrival, workload.span, workload.prompts, workload.seed
    )
}

/// Returns a table of the levels, where there are several.
fn levels_table(run: &Run) -> String {
    let levels = &run.summary.levels;
    if levels.len() < 2 {
        return String::new();
    }
    let mut table = String::from(
        "<h2>Levels</h2><table><thead><tr><th>users</th><th>tokens/s</th><th>gain</th><th>TTFT p50</th><th>ITL p50</th>\
         <th>lanes</th><th>deepest queue</th><th>device busy</th><th></th></tr></thead><tbody>",
    );
    for level in levels {
        let row = level_row(level);
        let knee = if level.is_knee { "knee" } else { "" };
        let cells: String = row
            .iter()
            .skip(1)
            .map(|cell| format!("<td>{}</td>", escape(cell)))
            .collect();
        let _ = write!(table, "<tr><th>{}</th>{cells}<td>{knee}</td></tr>", row[0]);
    }
    table.push_str("</tbody></table>");
    table
}

/// Returns the figures of a level as texts: users, tokens a second, gain, TTFT, ITL, lanes, queue, device.
pub fn level_row(level: &Level) -> [String; 8] {
    let share = |share: Option<f64>| share.map_or("–".into(), |share| format!("{:.0} %", share * 100.0));
    [
        level.users.to_string(),
        format!("{:.0} ± {:.0}", level.output_rate, level.output_rate_error),
        level.gain.map_or("–".into(), |gain| format!("{:+.0} %", gain * 100.0)),
        duration(level.ttft_p50),
        duration(level.itl_p50),
        share(level.lanes_share),
        level.deepest_queue.map_or("–".into(), |queue| queue.to_string()),
        share(level.busy_share),
    ]
}

/// Returns a table of the times with and without reuse, where one prompt was sent again and again.
fn reuse_table(run: &Run) -> String {
    let rows = reuse_rows(run);
    if rows.is_empty() {
        return String::new();
    }
    let mut table = String::from(
        "<h2>The same prompt, by reuse</h2><table><thead><tr><th></th><th>requests</th><th>TTFT, mean ± deviation</th>\
         <th>end-to-end, mean ± deviation</th></tr></thead><tbody>",
    );
    for [name, count, ttft, total] in rows {
        let _ = write!(
            table,
            "<tr><th>{name}</th><td>{count}</td><td>{ttft}</td><td>{total}</td></tr>"
        );
    }
    table.push_str("</tbody></table>");
    table
}

/// Returns the times of requests that found nothing in the cache and of those that did, as texts; nothing unless one prompt was sent again
/// and again.
pub fn reuse_rows(run: &Run) -> Vec<[String; 4]> {
    let Some(by_reuse) = run
        .summary
        .by_reuse
        .as_ref()
        .filter(|_| run.workload.repeats_one_prompt())
    else {
        return Vec::new();
    };
    let with_deviation = |mean: f64, deviation: f64, count: usize| match count {
        1 => duration(mean),
        _ => format!("{} ± {}", duration(mean), duration(deviation)),
    };
    let row = |name: &str, times: &RepeatTimes| {
        [
            name.to_owned(),
            times.count.to_string(),
            with_deviation(times.ttft, times.ttft_deviation, times.count),
            with_deviation(times.total, times.total_deviation, times.count),
        ]
    };
    let both = [("without reuse", &by_reuse.without), ("with reuse", &by_reuse.with)];
    let some = both.into_iter().filter(|(_, times)| times.count > 0);
    some.map(|(name, times)| row(name, times)).collect()
}

fn tiles(run: &Run) -> Vec<(String, String)> {
    let summary = &run.summary;
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    let mut tiles = vec![
        (format!("{:.0}", summary.output_rate), "tokens/s out".into()),
        (format!("{:.0}", summary.input_rate), "tokens/s in".into()),
        (format!("{:.1}", summary.request_rate), "requests/s".into()),
        (format!("{:.0}", summary.user_rate.p50), "tokens/s per user, p50".into()),
        (
            summary.done.to_string(),
            format!("of {} requests answered", summary.sent),
        ),
        (
            percent(summary.kept_pace),
            format!("of streams kept {} tokens/s", run.workload.pace),
        ),
    ];
    if let Some(queue) = summary.deepest_queue {
        tiles.push((queue.to_string(), "deepest queue".into()));
    }
    if let Some(lanes) = summary.lanes_share {
        tiles.push((percent(lanes), "of lanes in use, mean".into()));
    }
    tiles
}

fn spread_row(name: &str, spread: &Spread) -> String {
    let cells: String = [spread.p50, spread.p90, spread.p95, spread.p99, spread.max]
        .into_iter()
        .map(|seconds| format!("<td>{}</td>", duration(seconds)))
        .collect();
    format!("<tr><th>{name}</th>{cells}<td>{}</td></tr>", spread.count)
}

/// Returns a row for each request, with a header.
///
/// # Errors
/// When it cannot be written.
pub fn csv(run: &Run) -> Result<String, String> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let header = [
        "due_s",
        "sent_s",
        "ttft_s",
        "itl_mean_s",
        "itl_max_s",
        "total_s",
        "prompt_tokens",
        "reused_tokens",
        "output_tokens",
        "error",
    ];
    writer.write_record(header).map_err(|e| e.to_string())?;
    for request in &run.requests {
        let gaps: Vec<f64> = request.gaps().collect();
        let mean = (!gaps.is_empty()).then(|| gaps.iter().sum::<f64>() / gaps.len() as f64);
        let seconds = |value: Option<f64>| value.map_or(String::new(), |value| format!("{value:.6}"));
        let row = [
            seconds(Some(request.due)),
            seconds(Some(request.sent)),
            seconds(request.ttft()),
            seconds(mean),
            seconds(gaps.iter().copied().reduce(f64::max)),
            seconds(Some(request.total())),
            request.prompt_tokens.to_string(),
            request.reused_tokens.to_string(),
            request.output_tokens.to_string(),
            harmless(request.error.as_deref().unwrap_or_default()),
        ];
        writer.write_record(row).map_err(|e| e.to_string())?;
    }
    let bytes = writer.into_inner().map_err(|e| e.to_string())?;
    String::from_utf8(bytes).map_err(|e| e.to_string())
}

/// Returns a text that a spreadsheet does not take for a formula.
fn harmless(text: &str) -> String {
    match text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{text}"),
        false => text.to_owned(),
    }
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

const STYLE: &str = "\
:root{--paper:#fbf7ec;--ink:#1b3556;--line:#b9c3cc;--sea:#e6eef0}\
@media(prefers-color-scheme:dark){:root{--paper:#0d1a2b;--ink:#d9e4ee;--line:#35506b;--sea:#14263b}}\
body{margin:0 auto;max-width:1180px;padding:24px;background:var(--paper);color:var(--ink);font:15px/1.45 'Noto Sans','DejaVu Sans',sans-serif}\
h1{margin:0;font-size:26px}h2{font-size:17px;margin:26px 0 6px}header p{margin:4px 0 14px}\
.limit{border-left:4px solid var(--ink);padding:6px 12px;background:var(--sea)}\
.figures{display:grid;grid-template-columns:repeat(auto-fit,minmax(130px,1fr));gap:1px;background:var(--line);border:1px solid var(--line);margin:14px 0}\
.figures div{background:var(--paper);padding:8px 12px}.figures b{display:block;font-size:21px;font-variant-numeric:tabular-nums}.figures span{font-size:12px}\
table{border-collapse:collapse;font-variant-numeric:tabular-nums}th,td{padding:3px 16px 3px 0;text-align:right;border-bottom:1px solid var(--line)}tbody th,td:first-child,th:first-child{text-align:left}\
.charts{display:grid;grid-template-columns:repeat(auto-fit,minmax(480px,1fr));gap:18px;margin-top:20px}figure{margin:0}figcaption{font-size:13px;margin-bottom:4px}\
svg{width:100%;height:auto;background:#fbf7ec;border:1px solid var(--line)}pre{overflow:auto;font-size:12px;background:var(--sea);padding:12px}.note{font-size:12px}";

#[cfg(test)]
mod tests {
    use super::harmless;

    #[test]
    fn a_text_that_begins_like_a_formula_is_neutralised() {
        for text in ["=1+1", "+1", "-1", "@x", "\t=1", "\r=1"] {
            assert_eq!(harmless(text), format!("'{text}"));
        }
        for text in ["", "429 queue_full", "a=1"] {
            assert_eq!(harmless(text), text);
        }
    }
}
