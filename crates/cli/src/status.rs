//! `vastrelay status`.

use crate::args::StatusOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{columns, json, line, shards};
use comfy_table::{CellAlignment, Table, presets};
use vastrelay_serving::memory::{bytes, grouped};
use vastrelay_wire::manage::{ModelStatus, ServiceStatus};

/// Columns that the table takes; narrower terminals get a list.
const LEAST_COLUMNS: usize = 100;
const HEADER: [&str; 10] = [
    "model",
    "device",
    "lanes",
    "queue",
    "KV pages",
    "reusable",
    "steps",
    "tokens in",
    "tokens out",
    "preempted",
];

/// Shows the state of the service and its models.
pub async fn run(options: &StatusOptions) -> Result<(), Failure> {
    let status: ServiceStatus = Client::new(&options.connection)?.get("/manage/status").await?;
    if options.json {
        return json(&status);
    }
    line(format!(
        "Vast Relay {}: {}, up {}\n{} calls recorded\n",
        status.version,
        status.state,
        duration(status.uptime),
        grouped(status.calls_recorded as usize)
    ));
    if columns() < LEAST_COLUMNS {
        status.models.iter().for_each(list);
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header(HEADER);
    for model in &status.models {
        table.add_row(row(model));
    }
    table
        .column_iter_mut()
        .skip(2)
        .for_each(|column| column.set_cell_alignment(CellAlignment::Right));
    line(format!("{table}\n"));
    for model in &status.models {
        let memory = &model.memory;
        line(format!(
            "{}: weights {} ({}), KV pool {} ({}), workspace {}, limit {}; {} sequences of {} tokens fit",
            model.name,
            bytes(memory.weights),
            model.weights,
            bytes(memory.kv_pool),
            model.kv,
            bytes(memory.workspace),
            bytes(memory.budget),
            grouped(model.full_context_sequences),
            grouped(model.context),
        ));
        if let Some(failure) = &model.failure {
            line(format!("{}: FAILED, {failure}", model.name));
        }
    }
    Ok(())
}

/// Prints a model line by line, for narrow terminals.
fn list(model: &ModelStatus) {
    for (name, value) in HEADER.iter().zip(row(model)) {
        line(format!("{name:<12}{value}"));
    }
    let memory = &model.memory;
    for (name, value) in [
        ("weights", format!("{} ({})", bytes(memory.weights), model.weights)),
        ("KV pool", format!("{} ({})", bytes(memory.kv_pool), model.kv)),
        ("workspace", bytes(memory.workspace)),
        ("limit", bytes(memory.budget)),
        ("context", format!("{} tokens", grouped(model.context))),
        ("fit", format!("{} sequences", grouped(model.full_context_sequences))),
    ] {
        line(format!("{name:<12}{value}"));
    }
    if let Some(failure) = &model.failure {
        line(format!("FAILED: {failure}"));
    }
    line("");
}

fn row(model: &ModelStatus) -> Vec<String> {
    vec![
        model.name.clone(),
        format!(
            "{} ({} × {}{})",
            model.device,
            model.cores,
            model.instructions,
            shards(model.split)
        ),
        format!("{} of {}", model.lanes_used, model.width),
        format!("{} of {}", model.queue_depth, model.queue_limit),
        format!("{} of {}", grouped(model.pages_used), grouped(model.pages_total)),
        grouped(model.pages_cached),
        grouped(model.steps as usize),
        grouped(model.prefill_tokens as usize),
        grouped(model.output_tokens as usize),
        grouped(model.preemptions as usize),
    ]
}

fn duration(seconds: f64) -> String {
    let seconds = seconds as u64;
    match (seconds / 3600, seconds / 60 % 60, seconds % 60) {
        (0, 0, s) => format!("{s} s"),
        (0, m, s) => format!("{m} min {s} s"),
        (h, m, _) => format!("{h} h {m} min"),
    }
}
