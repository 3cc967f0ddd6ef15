//! `vastrelay endpoint`.

mod change;
mod check;
pub mod deploy;
mod follow;
mod log;
mod named;
mod new;
mod renew;
mod wait;

use crate::args::endpoint::{
    EndpointCommand, EndpointListOptions, EndpointParkOptions, EndpointRemoveOptions, EndpointShowOptions,
    EndpointStartOptions, EndpointStopOptions,
};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, device_name, duration, json, line, print, resting};
use comfy_table::{CellAlignment, Table, presets};
use std::time::Duration;
use vastrelay_fleet::Spec;
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_wire::manage::{
    ColdStart, EndpointDetail, EndpointStatus, EndpointStop, EndpointUser, ReplicaStatus, RestingEndpoint,
    ServiceStatus,
};

/// Starts that are shown of an endpoint.
const SHOWN_STARTS: usize = 5;

/// Changes which endpoints a running service has.
pub async fn run(command: &EndpointCommand) -> Result<(), Failure> {
    match command {
        EndpointCommand::Deploy(options) => deploy::deploy(options).await,
        EndpointCommand::Check(options) => check::check(options).await,
        EndpointCommand::Schema => json(&Spec::schema()),
        EndpointCommand::List(options) => list(options).await,
        EndpointCommand::Show(options) => show(options).await,
        EndpointCommand::New(options) => new::new(options),
        EndpointCommand::Log(options) => log::log(options).await,
        EndpointCommand::Wait(options) => wait::wait(options).await,
        EndpointCommand::Stop(options) => stop(options).await,
        EndpointCommand::Park(options) => park(options).await,
        EndpointCommand::Start(options) => start(options).await,
        EndpointCommand::Renew(options) => renew::renew(options).await,
        EndpointCommand::Remove(options) => remove(options).await,
    }
}

async fn list(options: &EndpointListOptions) -> Result<(), Failure> {
    let status: ServiceStatus = Client::new(&options.connection)?.get("/manage/status").await?;
    if options.json {
        return json(&serde_json::json!({"endpoints": status.endpoints, "resting": status.resting}));
    }
    if status.endpoints.is_empty() && status.resting.is_empty() {
        line("no endpoints yet; deploy one with `vastrelay endpoint deploy`");
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header(["endpoint", "state", "release", "device", "reserved", "lanes", "queue"]);
    for endpoint in &status.endpoints {
        let EndpointStatus { occupancy, .. } = endpoint;
        table.add_row([
            endpoint.name.clone(),
            endpoint.state.clone(),
            endpoint.release.to_string(),
            device_name(&endpoint.device, endpoint.simulated),
            bytes(reserved(endpoint)),
            format!("{} of {}", occupancy.lanes_used, occupancy.lanes),
            grouped(occupancy.queue_depth),
        ]);
    }
    for RestingEndpoint { name, state, .. } in &status.resting {
        table.add_row([name.as_str(), state, "", "", "", "", ""]);
    }
    table
        .column_iter_mut()
        .skip(4)
        .for_each(|column| column.set_cell_alignment(CellAlignment::Right));
    line(format!("{table}"));
    status.resting.iter().for_each(|endpoint| line(resting(endpoint)));
    Ok(())
}

async fn show(options: &EndpointShowOptions) -> Result<(), Failure> {
    let path = format!("/manage/endpoints/{}", options.name);
    let detail: EndpointDetail = Client::new(&options.connection)?.get(&path).await?;
    if options.json {
        return json(&detail);
    }
    if options.spec {
        print(&detail.spec);
        return Ok(());
    }
    let why = detail.why.map_or_else(String::new, |why| format!(": {why}"));
    line(format!("{} is {}{why}", detail.name, detail.state));
    if let Some(status) = &detail.status {
        line(format!("  {}", summary(status)));
    }
    for EndpointUser { holder, seconds } in &detail.users {
        line(format!("  used by {holder}, for {}", duration(*seconds)));
    }
    for release in &detail.releases {
        let served = if release.is_served { ", served now" } else { "" };
        line(format!(
            "  release {} of {} ago{served}",
            release.release,
            ago(release.seconds_ago)
        ));
    }
    detail
        .starts
        .iter()
        .take(SHOWN_STARTS)
        .for_each(|start| line(cold_start(start)));
    if !detail.beside.is_empty() {
        line(format!("  paths in its spec begin at {}", detail.beside));
    }
    line(format!("\n{}", detail.spec.trim_end()));
    Ok(())
}

/// Says how long a start took, phase by phase.
fn cold_start(start: &ColdStart) -> String {
    let how = match &start.failure {
        None => format!("took {}", duration(start.seconds)),
        Some(why) => format!("failed after {}: {why}", duration(start.seconds)),
    };
    format!(
        "  a start {} ago {how} ({})",
        ago(start.seconds_ago),
        follow::phases(start)
    )
}

async fn stop(options: &EndpointStopOptions) -> Result<(), Failure> {
    let (client, name) = (Client::new(&options.connection)?, &options.name);
    let longest_wait = if options.now { Duration::ZERO } else { options.within };
    let within = EndpointStop {
        within: longest_wait.as_secs_f64(),
    };
    let before = change::detail(&client, name).await?;
    let path = format!("/manage/endpoints/{name}/stop");
    change::change(&client, &path, &within, options.json).await?;
    if options.json {
        return json(&change::detail(&client, name).await?);
    }
    let again = format!("`vastrelay endpoint start {name}` serves it again");
    match before.state.as_str() {
        "stopped" => {
            let why = before.why.map_or_else(String::new, |why| format!(": {why}"));
            line(format!("{name} was stopped already{why}; {again}"));
        }
        _ => line(format!("stopped {name}; {again}")),
    }
    Ok(())
}

async fn park(options: &EndpointParkOptions) -> Result<(), Failure> {
    let (client, name) = (Client::new(&options.connection)?, &options.name);
    let within = EndpointStop {
        within: options.within.as_secs_f64(),
    };
    let path = format!("/manage/endpoints/{name}/park");
    change::change(&client, &path, &within, options.json).await?;
    if options.json {
        return json(&change::detail(&client, name).await?);
    }
    line(format!("parked {name}; the next call starts it again"));
    Ok(())
}

async fn start(options: &EndpointStartOptions) -> Result<(), Failure> {
    let (client, name) = (Client::new(&options.connection)?, &options.name);
    let path = format!("/manage/endpoints/{name}/start");
    change::change(&client, &path, &serde_json::json!({}), options.json).await?;
    let endpoint = change::status(&client, name).await?;
    if options.json {
        return json(&endpoint);
    }
    line(format!("started {}: {}", endpoint.name, summary(&endpoint)));
    follow::print_step(&client, &endpoint).await?;
    Ok(())
}

async fn remove(options: &EndpointRemoveOptions) -> Result<(), Failure> {
    let (client, name) = (Client::new(&options.connection)?, &options.name);
    let before = change::detail(&client, name).await?;
    let job = client.delete(&format!("/manage/endpoints/{name}")).await?;
    let removed = change::follow(&client, job, options.json).await?;
    if options.json {
        return json(&removed);
    }
    match before.status {
        Some(endpoint) => line(format!("removed {name}; {} are free", bytes(reserved(&endpoint)))),
        None => line(format!("removed {name}, which was {}", before.state)),
    }
    let deleted = removed.log.iter().flat_map(|log| log.lines());
    deleted.filter(|line| line.starts_with("deleted ")).for_each(line);
    Ok(())
}

/// Says what an endpoint is.
fn summary(endpoint: &EndpointStatus) -> String {
    format!(
        "release {} on {}, {} parameters, context {} tokens, width {}, {} reserved of at most {}",
        endpoint.release,
        device_name(&endpoint.device, endpoint.simulated),
        grouped(endpoint.parameters),
        grouped(endpoint.context),
        endpoint.occupancy.lanes,
        bytes(reserved(endpoint)),
        bytes(endpoint.replicas.iter().map(|replica| replica.memory.budget).sum()),
    )
}

/// Returns the bytes that its replicas have reserved.
fn reserved(endpoint: &EndpointStatus) -> usize {
    endpoint.replicas.iter().map(|replica| replica.memory.reserved).sum()
}

/// Returns why a replica of an endpoint has failed, where one has.
fn failure(replicas: &[ReplicaStatus]) -> Option<&str> {
    let failed = replicas.iter().find(|replica| replica.state == "failed")?;
    Some(failed.failure.as_deref().unwrap_or("its worker is gone"))
}
