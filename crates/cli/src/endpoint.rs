//! `vastrelay endpoint`.

use crate::args::endpoint::{EndpointCommand, EndpointDeployOptions, EndpointRemoveOptions, EndpointRenewOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{duration, json, line, standing};
use crate::plain::note;
use std::time::{Duration, Instant};
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_wire::manage::{EndpointStatus, NewEndpoint, Renewal, ReplicaStatus, ServiceStatus};

/// Time between two looks at how an endpoint stands.
const LOOK: Duration = Duration::from_millis(50);

/// Changes which endpoints a running service has.
pub async fn run(command: &EndpointCommand) -> Result<(), Failure> {
    match command {
        EndpointCommand::Deploy(options) => deploy(options).await,
        EndpointCommand::Renew(options) => renew(options).await,
        EndpointCommand::Remove(options) => remove(options).await,
    }
}

async fn deploy(options: &EndpointDeployOptions) -> Result<(), Failure> {
    let wanted = match &options.served {
        Some((name, folder)) => {
            // The service may run in another folder than this command.
            let folder = std::path::absolute(folder).map_err(Failure::usage)?;
            NewEndpoint {
                name: name.clone(),
                path: Some(folder.display().to_string()),
                demo: false,
            }
        }
        None => NewEndpoint {
            name: "pierdesk".into(),
            path: None,
            demo: true,
        },
    };
    let client = Client::new(&options.connection)?;
    if !options.json {
        note(format!("loading {}…", wanted.name));
    }
    let endpoint: EndpointStatus = client.post_for("/manage/endpoints", &wanted).await?;
    if options.json {
        return json(&endpoint);
    }
    line(format!(
        "deployed {} (release {}): {} parameters, context {} tokens, width {}, {} reserved of at most {}",
        endpoint.name,
        endpoint.release,
        grouped(endpoint.parameters),
        grouped(endpoint.context),
        endpoint.occupancy.lanes,
        bytes(reserved(&endpoint)),
        bytes(endpoint.replicas.iter().map(|replica| replica.memory.budget).sum()),
    ));
    Ok(())
}

/// Has an endpoint's workers replaced, and waits until the new ones take requests.
async fn renew(options: &EndpointRenewOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let within = options.within.as_secs_f64();
    let path = format!("/manage/endpoints/{}/renew", options.name);
    let before: EndpointStatus = client.post_for(&path, &Renewal { within }).await?;
    let begun = Instant::now();
    let mut said = String::new();
    let renewed = loop {
        let now = endpoint(&client, &options.name).await?;
        let is_new = |replica: &ReplicaStatus| {
            let same = |old: &ReplicaStatus| old.replica == replica.replica && old.incarnation == replica.incarnation;
            replica.state == "ready" && !before.replicas.iter().any(same)
        };
        if now.replicas.iter().all(is_new) {
            break now;
        }
        if let Some(failed) = now.replicas.iter().find(|replica| replica.state == "failed") {
            let why = standing(failed).unwrap_or_default();
            return Err(Failure::failed(format!("replica {}: {why}", failed.replica)));
        }
        let standing: Vec<String> = now.replicas.iter().filter_map(standing).collect();
        let text = format!("{}: {}", now.name, standing.join("; "));
        if !options.json && !standing.is_empty() && text != said {
            note(&text);
            said = text;
        }
        tokio::time::sleep(LOOK).await;
    };
    if options.json {
        return json(&renewed);
    }
    line(format!(
        "renewed {} in {}",
        renewed.name,
        duration(begun.elapsed().as_secs_f64())
    ));
    Ok(())
}

/// Returns how an endpoint stands.
async fn endpoint(client: &Client, name: &str) -> Result<EndpointStatus, Failure> {
    let status: ServiceStatus = client.get("/manage/status").await?;
    let found = status.endpoints.into_iter().find(|endpoint| endpoint.name == name);
    found.ok_or_else(|| Failure::failed(format!("`{name}` was removed meanwhile")))
}

async fn remove(options: &EndpointRemoveOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let path = format!("/manage/endpoints/{}", options.name);
    let endpoint: EndpointStatus = client.delete(&path).await?;
    if options.json {
        return json(&endpoint);
    }
    line(format!(
        "removed {}; {} are free once its running answers have ended",
        endpoint.name,
        bytes(reserved(&endpoint))
    ));
    Ok(())
}

/// Returns the bytes that its replicas have reserved.
fn reserved(endpoint: &EndpointStatus) -> usize {
    endpoint.replicas.iter().map(|replica| replica.memory.reserved).sum()
}
