//! `vastrelay endpoint deploy`.

use super::change::{change, status};
use super::check;
use super::follow::print_step;
use super::named::named;
use super::summary;
use crate::args::endpoint::{EndpointDeployOptions, endpoint_name};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use crate::plain::note;
use vastrelay_wire::manage::{EndpointCheck, NewEndpoint};
use vastrelay_wire::models::ModelList;

/// Serves something under a name, in the place of what was served under it.
pub async fn deploy(options: &EndpointDeployOptions) -> Result<(), Failure> {
    let new_endpoint = NewEndpoint {
        from_release: options.from_release,
        with_pause: options.with_pause,
        ..new_endpoint(options)?
    };
    let client = Client::new(&options.connection)?;
    if options.json {
        change(&client, "/manage/endpoints", &new_endpoint, true).await?;
        return json(&status(&client, &new_endpoint.name).await?);
    }
    let mut checked: EndpointCheck = client.post_for("/manage/check", &new_endpoint).await?;
    // The caller has agreed to a pause, so the reason for one is left out.
    checked.why = checked.why.filter(|_| !options.with_pause);
    check::print(&new_endpoint.name, &checked, note);
    let is_served = checked.served.is_some() && !checked.is_change;
    change(&client, "/manage/endpoints", &new_endpoint, false).await?;
    let endpoint = status(&client, &new_endpoint.name).await?;
    if is_served {
        line(format!("nothing changed: {}: {}", endpoint.name, summary(&endpoint)));
        return Ok(());
    }
    line(format!("deployed {}: {}", endpoint.name, summary(&endpoint)));
    print_step(&client, &endpoint).await?;
    how_to_call(&client, &endpoint.name).await.iter().for_each(line);
    Ok(())
}

/// Returns how an endpoint is called: the base address, its name, and one command that works for its mode.
async fn how_to_call(client: &Client, name: &str) -> Vec<String> {
    // The endpoint is deployed even when its modes cannot be read over TCP.
    let models: Option<ModelList> = client.get("/v1/models").await.ok();
    let models = models.map(|models| models.data).unwrap_or_default();
    let model = models.into_iter().find(|model| model.id == name);
    let modes = model.and_then(|model| model.modes).unwrap_or_default();
    calls(client.url(), name, &modes)
}

/// Returns the lines that say how an endpoint of such modes is called.
pub fn calls(url: &str, name: &str, modes: &[String]) -> Vec<String> {
    let plain = !modes.is_empty() && !modes.iter().any(|mode| mode == "chat");
    let (option, text) = if plain {
        (" --plain", "Once upon a time")
    } else {
        ("", "Hello")
    };
    vec![
        format!("  base address  {}/v1", url.trim_end_matches('/')),
        format!("  model         {name}"),
        format!("  try it        vastrelay ask --model {name}{option} \"{text}\""),
    ]
}

/// Returns the request for the service.
fn new_endpoint(options: &EndpointDeployOptions) -> Result<NewEndpoint, Failure> {
    let Some(what) = &options.what else {
        return Ok(NewEndpoint {
            name: "pierdesk".into(),
            demo: true,
            ..NewEndpoint::default()
        });
    };
    if options.release.is_some() {
        return Ok(NewEndpoint {
            name: endpoint_name(what).map_err(Failure::usage)?,
            release: options.release,
            ..NewEndpoint::default()
        });
    }
    named(what)
}
