//! `vastrelay endpoint`.

use crate::args::endpoint::{EndpointCommand, EndpointDeployOptions, EndpointRemoveOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use crate::plain::note;
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_wire::manage::{EndpointStatus, NewEndpoint};

/// Changes which endpoints a running service has.
pub async fn run(command: &EndpointCommand) -> Result<(), Failure> {
    match command {
        EndpointCommand::Deploy(options) => deploy(options).await,
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
