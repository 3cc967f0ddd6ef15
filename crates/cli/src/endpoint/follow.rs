//! Follows a start: says which phase it is in, and how long each of them took.

use crate::client::Client;
use crate::failure::Failure;
use crate::job::state;
use crate::output::{duration, line};
use crate::plain::note;
use std::pin::pin;
use std::time::Duration;
use vastrelay_wire::manage::{ColdStart, EndpointDetail, EndpointStatus, JobEntry, PhaseTime};

/// Time between two looks at how a start gets on.
const LOOK: Duration = Duration::from_millis(100);

/// Says which phase the start of an endpoint is in until it is there.
pub async fn follow(
    client: &Client,
    name: &str,
    starting: impl Future<Output = Result<EndpointStatus, Failure>>,
) -> Result<EndpointStatus, Failure> {
    let mut starting = pin!(starting);
    let (path, mut last) = (format!("/manage/endpoints/{name}"), String::new());
    loop {
        tokio::select! {
            started = &mut starting => return started,
            () = tokio::time::sleep(LOOK) => {}
        }
        // What cannot be looked at now is told at the end.
        let detail = client.get::<EndpointDetail>(&path).await.ok();
        let phase = match detail.as_ref().and_then(phase) {
            Some(phase) => Some(phase),
            None => building(client, name).await,
        };
        if let Some(phase) = phase.filter(|phase| *phase != last) {
            note(format!("  {phase}…"));
            last = phase;
        }
    }
}

/// Says how long the phases of an endpoint's start took, where it was started now.
pub async fn tell(client: &Client, endpoint: &EndpointStatus) -> Result<(), Failure> {
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
