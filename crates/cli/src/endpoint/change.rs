//! Changes of endpoints: each is a job, which is followed to its end.

use super::follow::look;
use crate::client::Client;
use crate::failure::Failure;
use crate::job::is_over;
use crate::plain::note;
use serde::Serialize;
use std::time::Duration;
use vastrelay_wire::manage::{EndpointDetail, EndpointStatus, JobEntry};

/// Time between two looks at how a change gets on.
const LOOK: Duration = Duration::from_millis(100);

/// Asks for a change and follows its job to the end; says how far it is unless the output `is_json`.
///
/// # Errors
/// When the service refuses the change, the job fails, or a newer change replaces it. An interrupt of the command is an error, too; the job
/// keeps running then.
pub async fn change(client: &Client, path: &str, body: &impl Serialize, is_json: bool) -> Result<JobEntry, Failure> {
    follow(client, client.post_for(path, body).await?, is_json).await
}

/// Follows the job of a change to its end.
///
/// # Errors
/// As of [`change`].
pub async fn follow(client: &Client, job: JobEntry, is_json: bool) -> Result<JobEntry, Failure> {
    tokio::select! {
        ended = followed(client, &job, is_json) => ended,
        // Without a signal there is nothing to hear of.
        Ok(()) = tokio::signal::ctrl_c() => Err(Failure::failed(format!(
            "job {0} is still running; follow it with `vastrelay job follow {0}`, or cancel it with `vastrelay job cancel {0}`",
            job.number
        ))),
    }
}

async fn followed(client: &Client, job: &JobEntry, is_json: bool) -> Result<JobEntry, Failure> {
    let (path, mut last) = (format!("/manage/jobs/{}", job.number), String::new());
    loop {
        let now: JobEntry = client.get(&path).await?;
        if is_over(&now) {
            return match now.state.as_str() {
                "done" => Ok(now),
                "replaced" | "cancelled" => Err(Failure::failed(format!(
                    "job {} is {}: {}",
                    now.number, now.state, now.outcome
                ))),
                _ => Err(Failure::failed(now.outcome)),
            };
        }
        if !is_json && let Some(phase) = look(client, &now).await.filter(|phase| *phase != last) {
            note(format!("  {phase}…"));
            last = phase;
        }
        tokio::time::sleep(LOOK).await;
    }
}

/// Returns how an endpoint stands.
pub async fn detail(client: &Client, name: &str) -> Result<EndpointDetail, Failure> {
    client.get(&format!("/manage/endpoints/{name}")).await
}

/// Returns how an endpoint stands that is served.
pub async fn status(client: &Client, name: &str) -> Result<EndpointStatus, Failure> {
    let detail = detail(client, name).await?;
    let state = detail.state;
    detail
        .status
        .ok_or_else(|| Failure::failed(format!("`{name}` is {state} by now")))
}
