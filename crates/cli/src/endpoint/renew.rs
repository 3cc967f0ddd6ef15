//! `vastrelay endpoint renew`.

use super::change::{change, status};
use crate::args::endpoint::EndpointRenewOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{duration, json, line};
use std::time::Instant;
use vastrelay_wire::manage::Renewal;

/// Has an endpoint's workers replaced, and waits until the new ones take requests.
pub async fn renew(options: &EndpointRenewOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let within = options.within.as_secs_f64();
    let path = format!("/manage/endpoints/{}/renew", options.name);
    let begun = Instant::now();
    change(&client, &path, &Renewal { within }, options.json).await?;
    if options.json {
        return json(&status(&client, &options.name).await?);
    }
    let time = duration(begun.elapsed().as_secs_f64());
    line(format!("renewed {} in {time}", options.name));
    Ok(())
}
