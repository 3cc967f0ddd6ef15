//! How far a change is, and how long each phase of a start took.

use crate::client::Client;
use crate::failure::Failure;
use crate::job::state;
use crate::output::{duration, line};
use vastrelay_wire::manage::{ColdStart, EndpointDetail, EndpointStatus, JobEntry, PhaseTime};

/// Returns how far the change of an endpoint is, for people.
pub async fn look(client: &Client, job: &JobEntry) -> Option<String> {
    let path = format!("/manage/endpoints/{}", job.endpoint);
    // If this request fails, the result of the job still says how the change ended.
    let detail = client.get::<EndpointDetail>(&path).await.ok();
    match detail.as_ref().and_then(phase) {
        Some(phase) => Some(phase),
        None => building(client, &job.endpoint).await.or_else(|| last_line(job)),
    }
}

/// Returns the last line of a job's log.
fn last_line(job: &JobEntry) -> Option<String> {
    job.log.as_ref()?.lines().last().map(str::to_owned)
}

/// Says how long the phases of an endpoint's start took, where it was started now.
pub async fn print_step(client: &Client, endpoint: &EndpointStatus) -> Result<(), Failure> {
    let path = format!("/manage/endpoints/{}", endpoint.name);
    let detail: EndpointDetail = client.get(&path).await?;
    let incarnation = endpoint.replicas.first().map(|replica| replica.incarnation);
    let is_its = |start: &&ColdStart| Some(start.incarnation) == incarnation && start.release == endpoint.release;
    if let Some(start) = detail.starts.iter().find(is_its) {
        line(format!("  ready after {}: {}", duration(start.seconds), phases(start)));
    }
    Ok(())
}

/// Returns how far the build is that an endpoint waits for, where it waits for one.
async fn building(client: &Client, name: &str) -> Option<String> {
    let jobs: Vec<JobEntry> = client.get("/manage/jobs?most=20&kind=build").await.ok()?;
    let mine = |job: &&JobEntry| job.endpoint == name && matches!(job.state.as_str(), "queued" | "running");
    let job = jobs.iter().find(mine)?;
    Some(format!("building, job {}: {}", job.number, state(job)))
}

/// Returns the phases of a start with their durations, for people.
pub fn phases(start: &ColdStart) -> String {
    let phase = |time: &PhaseTime| format!("{} {}", time.phase, duration(time.seconds));
    let phases: Vec<String> = start.phases.iter().map(phase).collect();
    phases.join(", ")
}

/// Returns the phase that a replica is in which is being started.
fn phase(now: &EndpointDetail) -> Option<String> {
    let starting = now.coming.as_ref().or(now.status.as_ref())?;
    starting.replicas.iter().find_map(|replica| replica.phase.clone())
}
