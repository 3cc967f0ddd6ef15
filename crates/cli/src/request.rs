//! `vastrelay request`.

mod timeline;

use crate::args::request::{RequestListOptions, RequestShowOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, device_name, duration, json, line};
use comfy_table::{CellAlignment, Table, presets};
use reqwest::Url;
use vastrelay_planner::amounts::{count_of, grouped};
use vastrelay_wire::manage::{CallDetail, RecordedCall};

/// Lists the last calls, newest first.
pub async fn list(options: &RequestListOptions) -> Result<(), Failure> {
    let calls: Vec<RecordedCall> = Client::new(&options.connection)?.get(&address(options)).await?;
    if options.json {
        return json(&calls);
    }
    if calls.is_empty() {
        line("no matching requests");
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header([
        "ago",
        "request",
        "caller",
        "operation",
        "endpoint",
        "status",
        "outcome",
        "in",
        "reused",
        "out",
        "queued",
        "TTFT",
        "ITL p50",
        "total",
    ]);
    for call in &calls {
        table.add_row(row(call));
    }
    for right in [0, 7, 8, 9, 10, 11, 12, 13] {
        if let Some(column) = table.column_mut(right) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    line(format!("{table}"));
    Ok(())
}

/// Returns the address that lists what is wanted.
fn address(options: &RequestListOptions) -> String {
    let mut url = Url::parse("http://service/manage/requests").expect("an address");
    let seconds = |time: Option<std::time::Duration>| time.map(|time| time.as_secs_f64().to_string());
    let conditions = [
        ("endpoint", options.endpoint.clone()),
        ("outcome", options.outcome.clone()),
        ("caller", options.caller.clone()),
        ("failed", options.failed.then(|| "true".into())),
        ("within", seconds(options.within)),
        ("least_total", seconds(options.slower)),
        ("least_ttft", seconds(options.slower_start)),
    ];
    url.query_pairs_mut().append_pair("most", &options.most.to_string());
    for (name, value) in conditions {
        if let Some(value) = value {
            url.query_pairs_mut().append_pair(name, &value);
        }
    }
    format!("{}?{}", url.path(), url.query().unwrap_or_default())
}

fn row(call: &RecordedCall) -> Vec<String> {
    vec![
        ago(call.seconds_ago),
        call.id.chars().take(12).collect(),
        call.caller.clone(),
        call.operation.clone(),
        call.endpoint.clone(),
        call.status.to_string(),
        call.outcome.clone(),
        grouped(call.prompt_tokens),
        grouped(call.reused_tokens),
        grouped(call.output_tokens),
        duration(call.queued),
        duration(call.ttft),
        duration(call.itl_p50),
        duration(call.total),
    ]
}

/// Shows one call.
pub async fn show(options: &RequestShowOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let id = match options.id.as_str() {
        "last" => {
            let last: Vec<RecordedCall> = client.get("/manage/requests?most=1").await?;
            let last = last.into_iter().next();
            last.ok_or_else(|| Failure::failed("no requests yet"))?.id
        }
        id => id.to_owned(),
    };
    let mut url = Url::parse("http://service/manage/requests/").expect("an address");
    if let Ok(mut path) = url.path_segments_mut() {
        path.pop_if_empty().push(&id);
    }
    let detail: CallDetail = client.get(url.path()).await?;
    if options.json {
        return json(&detail);
    }
    print(&detail);
    Ok(())
}

fn print(detail: &CallDetail) {
    let call = &detail.call;
    let who = if call.caller.is_empty() {
        String::new()
    } else {
        format!(" by {}", call.caller)
    };
    let place = match call.replica {
        0 => String::new(),
        replica => {
            let device = device_name(&call.device, call.simulated);
            format!(" (release {}, replica {replica} on {device})", call.release)
        }
    };
    line(format!(
        "{}  {} to {}{place}{who}, {} ago: {} ({})",
        call.id,
        call.operation,
        call.endpoint,
        ago(call.seconds_ago),
        call.outcome,
        call.status
    ));
    line("");
    timeline::lines(call, &detail.gaps).iter().for_each(line);
    line("");
    let reused = match call.reused_tokens {
        0 => String::new(),
        reused => format!(", {} of them reused", grouped(reused)),
    };
    if let Some(error) = &call.error {
        line(format!("{:<12}{error}\n", "error"));
    }
    if call.waiting_for_start > 0.0 {
        let start = duration(call.waiting_for_start);
        line(format!(
            "{:<12}{start:>10}   its endpoint was parked or starting",
            "start"
        ));
    }
    for (name, value, note) in [
        (
            "queued",
            duration(call.queued),
            "until it had a lane in the batch".into(),
        ),
        (
            "prefill",
            duration(call.prefill),
            format!("{}{reused}", count_of(call.prompt_tokens, "prompt token")),
        ),
        ("TTFT", duration(call.ttft), "from arrival to the first token".into()),
        (
            "ITL p50",
            duration(call.itl_p50),
            format!(
                "p90 {}, p99 {}, largest {}",
                duration(call.itl_p90),
                duration(call.itl_p99),
                duration(call.itl_max)
            ),
        ),
        (
            "total",
            duration(call.total),
            format!(
                "{}, preempted {}",
                count_of(call.output_tokens, "output token"),
                count_of(call.preemptions, "time")
            ),
        ),
    ] {
        line(format!("{name:<12}{value:>10}   {note}"));
    }
    for moved in &detail.moves {
        line(format!(
            "{:<12}{:>10}   {} tokens so far; it went on with another worker: {}",
            "moved",
            duration(moved.after),
            grouped(moved.tokens),
            moved.why
        ));
    }
    line(format!("{:<12}{}", "parameters", detail.parameters));
    if let Some(text) = &detail.text {
        line(format!("\nprompt\n{}\n\nanswer\n{}", text.prompt, text.answer));
    }
}
