//! `vastrelay status`.

use crate::args::status::StatusOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::memory::capacity;
use crate::output::{ago, columns, device_name, json, line, place_name, precision_name, resting, state};
use comfy_table::{CellAlignment, Table, presets};
use vastrelay_planner::amounts::{bytes, count_of, grouped};
use vastrelay_wire::manage::{CapacityStatus, EndpointStatus, ReplicaStatus, ServiceStatus};

/// Columns that the table takes; narrower terminals get a list.
const LEAST_COLUMNS: usize = 100;
const HEADER: [&str; 11] = [
    "endpoint",
    "release",
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

/// Shows the state of the service and its endpoints.
pub async fn run(options: &StatusOptions) -> Result<(), Failure> {
    let status: ServiceStatus = Client::new(&options.connection)?.get("/manage/status").await?;
    if options.json {
        return json(&status);
    }
    line(format!(
        "Vast Relay {}: {}, up {}\n{} recorded\n",
        status.version,
        status.state,
        ago(status.uptime),
        count_of(status.calls_recorded as usize, "call")
    ));
    for restarted in status.loops.iter().filter(|one| one.restarts > 0) {
        line(format!(
            "The loop `{}` restarted {} after a panic: {}\n",
            restarted.name,
            count_of(restarted.restarts as usize, "time"),
            restarted.why.as_deref().unwrap_or("the log says which")
        ));
    }
    let rest = || status.resting.iter().for_each(|endpoint| line(resting(endpoint)));
    if columns() < LEAST_COLUMNS {
        status.endpoints.iter().for_each(list);
        rest();
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header(HEADER);
    for endpoint in &status.endpoints {
        table.add_row(row(endpoint));
    }
    table
        .column_iter_mut()
        .skip(3)
        .for_each(|column| column.set_cell_alignment(CellAlignment::Right));
    line(format!("{table}\n"));
    for endpoint in &status.endpoints {
        for replica in &endpoint.replicas {
            line(format!("{}: {}", name_of(endpoint, replica), memory(endpoint, replica)));
            let lines = capacity(&replica.capacity, replica.width);
            lines.iter().for_each(|text| line(format!("  {text}")));
            if let Some(state) = state(replica) {
                line(format!("{}: {state}", name_of(endpoint, replica)));
            }
        }
    }
    rest();
    Ok(())
}

/// Returns the name of an endpoint, and of its replica where it has several.
fn name_of(endpoint: &EndpointStatus, replica: &ReplicaStatus) -> String {
    match endpoint.replicas.len() {
        1 => endpoint.name.clone(),
        _ => format!("{}, replica {}", endpoint.name, replica.replica),
    }
}

/// Returns the words for a replica over several devices, of which its figures of memory are those of one.
fn on_each(endpoint: &EndpointStatus, replica: &ReplicaStatus) -> Option<String> {
    let spans = replica.split > 1 && endpoint.simulated;
    spans.then(|| format!("on each of {} devices", replica.split))
}

fn memory(endpoint: &EndpointStatus, replica: &ReplicaStatus) -> String {
    let (memory, precision) = (&replica.memory, &endpoint.precision);
    let each = on_each(endpoint, replica).map_or(String::new(), |each| format!("{each}: "));
    format!(
        "{each}weights {} ({}), KV pool {} ({}), workspace {}, process {}; {} reserved, {} resident, limit {}",
        bytes(memory.weights),
        precision_name(&precision.weights, precision.group),
        bytes(memory.kv_pool),
        precision.kv,
        bytes(memory.workspace),
        bytes(memory.process),
        bytes(memory.reserved),
        bytes(memory.resident),
        bytes(memory.budget),
    )
}

/// Prints an endpoint line by line, for narrow terminals.
fn list(endpoint: &EndpointStatus) {
    for (name, value) in HEADER.iter().zip(row(endpoint)) {
        line(format!("{name:<12}{value}"));
    }
    let precision = &endpoint.precision;
    let weights = precision_name(&precision.weights, precision.group);
    for replica in &endpoint.replicas {
        let memory = &replica.memory;
        let each = on_each(endpoint, replica).map_or(String::new(), |each| format!(" {each}"));
        for (name, value) in [
            ("weights", format!("{} ({weights})", bytes(memory.weights))),
            ("KV pool", format!("{} ({})", bytes(memory.kv_pool), precision.kv)),
            ("workspace", bytes(memory.workspace)),
            ("process", bytes(memory.process)),
            ("reserved", format!("{}{each}", bytes(memory.reserved))),
            ("resident", format!("{}{each}", bytes(memory.resident))),
            ("limit", bytes(memory.budget)),
            ("context", format!("{} tokens", grouped(endpoint.context))),
        ] {
            line(format!("{name:<12}{value}"));
        }
        for (name, value) in capacity_rows(&replica.capacity) {
            line(format!("{name:<12}{value}"));
        }
        if let Some(state) = state(replica) {
            line(state);
        }
    }
    line("");
}

/// Returns how many sequences run at once and could be held, in rows for narrow terminals.
fn capacity_rows(capacity: &CapacityStatus) -> Vec<(&'static str, String)> {
    let CapacityStatus { full, typical, .. } = capacity;
    let of = |count: usize, tokens: usize| format!("{} of {} tokens", grouped(count), grouped(tokens));
    let mut rows = vec![("at once", of(full.at_once, full.tokens))];
    if typical.tokens < full.tokens {
        rows.push(("or typical", of(typical.at_once, typical.tokens)));
    }
    rows.push(("pool holds", of(full.in_pool, full.tokens)));
    rows.push(("limit holds", format!("{} more", grouped(full.in_rest))));
    rows
}

fn row(endpoint: &EndpointStatus) -> Vec<String> {
    let (occupancy, totals) = (&endpoint.occupancy, &endpoint.totals);
    let place = |replica| place_name(&endpoint.device, endpoint.simulated, replica);
    let first = endpoint.replicas.first();
    let device = first.map_or_else(|| device_name(&endpoint.device, endpoint.simulated), place);
    vec![
        endpoint.name.clone(),
        endpoint.release.to_string(),
        device,
        format!("{} of {}", occupancy.lanes_used, occupancy.lanes),
        format!("{} of {}", occupancy.queue_depth, occupancy.queue_limit),
        format!("{} of {}", grouped(occupancy.pages_used), grouped(occupancy.pages)),
        grouped(occupancy.pages_cached),
        grouped(totals.steps as usize),
        grouped(totals.prefill_tokens as usize),
        grouped(totals.output_tokens as usize),
        grouped(totals.preemptions as usize),
    ]
}
