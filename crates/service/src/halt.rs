//! Endpoints that are stopped, started again and removed.

use crate::deploy_error::DeployError;
use crate::endpoint::Endpoint;
use crate::endpoints::{self, Endpoints};
use crate::event_log::{EventLog, SERVICE};
use crate::loader::Loader;
use crate::problem::Problem;
use crate::records::Records;
use crate::retire::retire;
use std::sync::Arc;
use std::time::Duration;
use vastrelay_planner::amounts::counted;
use vastrelay_store::{BuildRecord, Standing};
use vastrelay_wire::manage::EventKind;

/// Stops serving an endpoint: its calls have so long to end, and end with an error then. What it is to be is kept, and the next service
/// leaves it stopped.
///
/// # Errors
/// When there is none, or somebody else changes it.
pub(crate) fn stop(
    endpoints: &Endpoints,
    records: &Arc<Records>,
    name: &str,
    within: Duration,
    by: &str,
) -> Result<(), Problem> {
    let _changing = endpoints.change(name)?;
    if !endpoints.resting().contains_key(name) {
        endpoints.get(name)?;
    }
    // One that cannot be started is not tried again.
    let stopped = endpoints.rest(name, endpoints::stopped(by));
    let kept = records.store.stand(name, Standing::Stopped);
    kept.map_err(|error| Problem::internal(error.to_string()))?;
    let mut text = format!("requests have {} s to end", within.as_secs_f64());
    if by == SERVICE {
        text.push_str("; its time is over (`stop_after`)");
    }
    log_of(stopped.as_ref(), records, name).done_by(by, EventKind::Stopped, text);
    if let Some(endpoint) = stopped {
        retire(endpoint, Some(within)).map_err(|error| Problem::internal(error.to_string()))?;
    }
    Ok(())
}

/// Serves an endpoint again as it was kept, and waits until it takes requests.
///
/// # Errors
/// When it is served already, nothing is kept of it, or it cannot be started.
pub(crate) fn start(
    loader: &Loader,
    endpoints: &Endpoints,
    records: &Arc<Records>,
    name: &str,
    by: &str,
) -> Result<Arc<Endpoint>, Problem> {
    let _changing = endpoints.change(name)?;
    if let Ok(state) = endpoints.state_of(name)
        && !endpoints.resting().contains_key(name)
    {
        let text = format!("`{name}` is {}; there is nothing to start", state.name());
        return Err(Problem::conflict("endpoint_served", text));
    }
    let planned = match loader.plan_kept(endpoints, records, name, by) {
        Err(DeployError::NotKept(_)) => {
            return Err(endpoints.get(name).err().unwrap_or_else(|| Problem::starting(name)));
        }
        planned => planned.map_err(|error| error.not_started())?,
    };
    planned
        .put_down_as(EventKind::Started)
        .begin()
        .map_err(|error: DeployError| {
            endpoints.rest(name, endpoints::failed(error.to_string()));
            error.not_started()
        })
}

/// Stops serving an endpoint, whose calls are answered first, and forgets what it was to be, with builds that nobody else uses. Returns it, where
/// it was served, and those builds.
///
/// # Errors
/// When there is none, or somebody else changes it.
pub(crate) fn remove(
    loader: &Loader,
    endpoints: &Endpoints,
    records: &Arc<Records>,
    name: &str,
    by: &str,
) -> Result<(Option<Arc<Endpoint>>, Vec<BuildRecord>), Problem> {
    let _changing = endpoints.change(name)?;
    let removed = match endpoints.take(name) {
        Ok(endpoint) => Some(endpoint),
        Err(_) if endpoints.forget(name) => None,
        Err(problem) => return Err(problem),
    };
    endpoints.forget(name);
    let forgotten = records.store.forget_endpoint(name);
    let unused = forgotten.and_then(|()| match &loader.builds {
        Some(builds) => builds.release(name),
        None => Ok(Vec::new()),
    });
    let unused = unused.map_err(|error| Problem::internal(error.to_string()))?;
    let text = match unused.len() {
        0 => "its running answers are completed".into(),
        count => format!(
            "its running answers are completed; {} deleted that nobody else uses",
            counted(count, "build")
        ),
    };
    log_of(removed.as_ref(), records, name).done_by(by, EventKind::Removed, text);
    if let Some(endpoint) = &removed {
        retire(endpoint.clone(), None).map_err(|error| Problem::internal(error.to_string()))?;
    }
    Ok((removed, unused))
}

/// Returns what puts down what happens to an endpoint, also to one that is not served.
fn log_of(served: Option<&Arc<Endpoint>>, records: &Arc<Records>, name: &str) -> EventLog {
    let log = served.and_then(|endpoint| endpoint.log().cloned());
    log.unwrap_or_else(|| EventLog::new(records, name, 0))
}
