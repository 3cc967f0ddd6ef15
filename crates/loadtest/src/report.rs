//! How a run looks on paper: one HTML file with its charts in it, or a row of CSV for each request.

mod charts;

use crate::run::Run;
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
        "<p class=\"limit\"><b>Limited by {}:</b> {}</p>",
        escape(summary.limit.name()),
        escape(&summary.limit_reason)
    );
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
    page.push_str("</tbody></table><section class=\"charts\">");
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
    page.push_str("<h2>Everything needed to repeat it</h2><pre>");
    let repeat =
        serde_json::json!({"id": run.id, "begun_ms": run.begun_ms, "workload": run.workload, "setup": run.setup});
    page.push_str(&escape(
        &serde_json::to_string_pretty(&repeat).map_err(|e| e.to_string())?,
    ));
    page.push_str("</pre><p class=\"note\">Durations count from the moment when a request was due, not from when it could be sent. \
        TTFT: time to first token. ITL: each gap between two tokens of one stream.</p></body></html>");
    Ok(page)
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
