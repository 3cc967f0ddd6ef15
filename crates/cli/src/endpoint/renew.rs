//! `vastrelay endpoint renew`.

use super::failure;
use crate::args::endpoint::EndpointRenewOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{duration, json, line, standing};
use crate::plain::note;
use std::time::{Duration, Instant};
use vastrelay_wire::manage::{EndpointDetail, EndpointStatus, Renewal, ReplicaStatus};

/// Time between two looks at how an endpoint stands.
const LOOK: Duration = Duration::from_millis(50);

/// Has an endpoint's workers replaced, and waits until the new ones take requests.
pub async fn renew(options: &EndpointRenewOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let within = options.within.as_secs_f64();
    let path = format!("/manage/endpoints/{}", options.name);
    let before: EndpointStatus = client.post_for(&format!("{path}/renew"), &Renewal { within }).await?;
    let begun = Instant::now();
    let mut said = String::new();
    let renewed = loop {
        let now: EndpointDetail = client.get(&path).await?;
        let gone = || Failure::failed(format!("`{}` is {}", now.name, now.state));
        let now = now.status.clone().ok_or_else(gone)?;
        let is_new = |replica: &ReplicaStatus| {
            let same = |old: &ReplicaStatus| old.replica == replica.replica && old.incarnation == replica.incarnation;
            replica.state == "ready" && !before.replicas.iter().any(same)
        };
        if now.replicas.iter().all(is_new) {
            break now;
        }
        if let Some(why) = failure(&now.replicas) {
            return Err(Failure::failed(format!("{}: {why}", now.name)));
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
    let time = duration(begun.elapsed().as_secs_f64());
    line(format!("renewed {} in {time}", renewed.name));
    Ok(())
}
