//! `vastrelay endpoint wait`.

use super::failure;
use crate::args::endpoint::EndpointWaitOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::line;
use std::time::{Duration, Instant};
use vastrelay_wire::manage::EndpointDetail;

/// Time between two looks at how an endpoint stands.
const LOOK: Duration = Duration::from_millis(100);

/// Waits until an endpoint takes requests, or never will.
pub async fn wait(options: &EndpointWaitOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let path = format!("/manage/endpoints/{}", options.name);
    // A time that no clock has is as good as none.
    let until = Instant::now().checked_add(options.within);
    loop {
        let now: EndpointDetail = client.get(&path).await?;
        match now.state.as_str() {
            "ready" | "degraded" | "parked" => {
                line(format!("{} is {}", now.name, now.state));
                return Ok(());
            }
            "stopped" | "failed" => {
                let replicas = now.status.as_ref().map(|status| &status.replicas[..]);
                let why = now
                    .why
                    .as_deref()
                    .or_else(|| failure(replicas?))
                    .unwrap_or("nobody knows why");
                return Err(Failure::failed(format!("{} is {}: {why}", now.name, now.state)));
            }
            state if until.is_some_and(|until| Instant::now() >= until) => {
                return Err(Failure::failed(format!("{} is still {state}", now.name)));
            }
            _ => tokio::time::sleep(LOOK).await,
        }
    }
}
