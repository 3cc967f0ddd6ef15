//! `vastrelay model`.

mod build;
mod inspect;

use crate::args::{ModelCommand, ModelStartOptions, ModelStopOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use crate::plain::note;
use vastrelay_serving::memory::{bytes, grouped};
use vastrelay_wire::manage::{ModelStatus, NewModel};

/// Looks at models, and changes which of them a running service serves.
pub async fn run(command: &ModelCommand) -> Result<(), Failure> {
    match command {
        ModelCommand::Start(options) => start(options).await,
        ModelCommand::Stop(options) => stop(options).await,
        ModelCommand::Inspect(options) => inspect::run(options),
        ModelCommand::Build(options) => build::run(options),
    }
}

async fn start(options: &ModelStartOptions) -> Result<(), Failure> {
    let wanted = match &options.model {
        Some((name, folder)) => {
            // The service may run in another folder than this command.
            let folder = std::path::absolute(folder).map_err(Failure::usage)?;
            NewModel {
                name: name.clone(),
                path: Some(folder.display().to_string()),
                demo: false,
            }
        }
        None => NewModel {
            name: "pierdesk".into(),
            path: None,
            demo: true,
        },
    };
    let client = Client::new(&options.connection)?;
    if !options.json {
        note(format!("loading {}…", wanted.name));
    }
    let model: ModelStatus = client.post_for("/manage/models", &wanted).await?;
    if options.json {
        return json(&model);
    }
    line(format!(
        "serving {}: {} parameters, context {} tokens, width {}, {} of at most {} in use",
        model.name,
        grouped(model.parameters),
        grouped(model.context),
        model.width,
        bytes(model.memory.weights + model.memory.kv_pool + model.memory.workspace),
        bytes(model.memory.budget),
    ));
    Ok(())
}

async fn stop(options: &ModelStopOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let path = format!("/manage/models/{}", options.name);
    let model: ModelStatus = client.delete(&path).await?;
    if options.json {
        return json(&model);
    }
    line(format!(
        "stopped {}; {} are free once its running answers have ended",
        model.name,
        bytes(model.memory.weights + model.memory.kv_pool + model.memory.workspace)
    ));
    Ok(())
}
