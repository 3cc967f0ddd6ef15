//! `vastrelay requests`.

use crate::args::RequestsListOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::line;
use comfy_table::{CellAlignment, Table, presets};
use vastrelay_serving::memory::grouped;
use vastrelay_wire::manage::RecordedCall;

/// Lists the last calls, newest first.
pub async fn list(options: &RequestsListOptions) -> Result<(), Failure> {
    let path = format!("/manage/requests?most={}", options.most);
    let calls: Vec<RecordedCall> = Client::new(&options.connection)?.get(&path).await?;
    if options.json {
        let text = serde_json::to_string_pretty(&calls).map_err(Failure::failed)?;
        line(text);
        return Ok(());
    }
    if calls.is_empty() {
        line("no calls yet; `vastrelay ask \"Hello\"` makes one");
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header([
        "ago", "request", "call", "model", "status", "outcome", "in", "reused", "out", "queued", "TTFT", "ITL mean",
        "total",
    ]);
    for call in &calls {
        table.add_row(row(call));
    }
    for right in [0, 6, 7, 8, 9, 10, 11, 12] {
        if let Some(column) = table.column_mut(right) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    line(format!("{table}"));
    Ok(())
}

fn row(call: &RecordedCall) -> Vec<String> {
    vec![
        ago(call.seconds_ago),
        call.id.chars().take(12).collect(),
        call.endpoint.clone(),
        call.model.clone(),
        call.status.to_string(),
        call.outcome.clone(),
        grouped(call.prompt_tokens),
        grouped(call.reused_tokens),
        grouped(call.output_tokens),
        ms(call.queued),
        ms(call.ttft),
        ms(call.itl_mean),
        ms(call.total),
    ]
}

fn ms(seconds: f64) -> String {
    match seconds * 1000.0 {
        0.0 => "–".into(),
        ms if ms < 100.0 => format!("{ms:.1} ms"),
        ms => format!("{ms:.0} ms"),
    }
}

fn ago(seconds: f64) -> String {
    match seconds.max(0.0) as u64 {
        s if s < 100 => format!("{s} s"),
        s if s < 6000 => format!("{} min", s / 60),
        s => format!("{} h", s / 3600),
    }
}
