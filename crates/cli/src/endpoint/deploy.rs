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
    change(&client, "/manage/endpoints", &new_endpoint, false).await?;
    let endpoint = status(&client, &new_endpoint.name).await?;
    line(format!("deployed {}: {}", endpoint.name, summary(&endpoint)));
    print_step(&client, &endpoint).await?;
    line(format!("  base address  {}/v1", client.url().trim_end_matches('/')));
    line(format!("  model         {}", endpoint.name));
    line(format!(
        "  try it        vastrelay ask --model {} \"Hello\"",
        endpoint.name
    ));
    Ok(())
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
