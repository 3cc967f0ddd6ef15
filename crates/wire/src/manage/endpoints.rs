//! The desired state of endpoints.

use super::EndpointStatus;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An endpoint that is known and not served.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct RestingEndpoint {
    /// Its name.
    pub name: String,
    /// `stopped`, or `failed` where it cannot be started.
    pub state: String,
    /// Why.
    pub why: String,
    /// Since when, in seconds.
    pub seconds: f64,
}

/// `GET /manage/endpoints/{name}`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointDetail {
    /// Its name.
    pub name: String,
    /// Its state.
    pub state: String,
    /// Why it is not served, where it is not.
    pub why: Option<String>,
    /// Its spec, as it was written.
    pub spec: String,
    /// The folder that paths in the spec begin at; empty where they begin at the root.
    pub beside: String,
    /// Its releases, newest first.
    pub releases: Vec<EndpointRelease>,
    /// How it stands, where it is served.
    pub status: Option<EndpointStatus>,
    /// The release that is being started to take its place, where one is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub coming: Option<EndpointStatus>,
    /// How long its last starts took, newest first.
    #[serde(default)]
    pub starts: Vec<ColdStart>,
    /// The current leases on its replicas, the oldest first.
    #[serde(default)]
    pub users: Vec<EndpointUser>,
}

/// A holder of a lease of an endpoint's replicas.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointUser {
    /// The holder, for people.
    pub holder: String,
    /// For how long, in seconds.
    pub seconds: f64,
}

/// A line of output, of a worker or of a conversion.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize, ToSchema)]
pub struct LogLine {
    /// When it was read, in milliseconds since 1970.
    pub at_ms: i64,
    /// The number of the replica; 0 for a conversion.
    pub replica: u32,
    /// The number of its life.
    pub incarnation: u64,
    /// What it said.
    pub line: String,
}

/// How long a start of a worker took.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ColdStart {
    /// When it ended, in seconds from now.
    pub seconds_ago: f64,
    /// The number of the release.
    pub release: u32,
    /// The number of the replica; 0 for a conversion.
    pub replica: u32,
    /// The number of the life that began with it.
    pub incarnation: u64,
    /// How long it took in all, in seconds.
    pub seconds: f64,
    /// Its phases, in their order.
    pub phases: Vec<PhaseTime>,
    /// Why the worker did not come to take requests, where it did not.
    pub failure: Option<String>,
}

/// A phase of a start.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize, ToSchema)]
pub struct PhaseTime {
    /// Its name: `waiting for device`, `starting worker`, `verifying files`, `loading weights`.
    pub phase: String,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// A key of a spec whose value is another one.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct SpecDifference {
    /// The key, such as `batch.width`.
    pub key: String,
    /// What it was, as TOML; absent where it was not written.
    pub was: Option<String>,
    /// What it is, as TOML; absent where it is not written.
    pub is: Option<String>,
}

/// `POST /manage/check`: how an endpoint would be served.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointCheck {
    /// The release that is served under its name now.
    pub served: Option<u32>,
    /// Whether anything would be different from that.
    pub is_change: bool,
    /// Whether it applies at once, without another worker.
    #[serde(default)]
    pub at_once: bool,
    /// Whether what is served has to be stopped first, as memory has no room for both.
    pub needs_pause: bool,
    /// Why, in words.
    pub why: Option<String>,
    /// The endpoint as it would be, where there is room for it.
    pub planned: Option<EndpointStatus>,
    /// What is different from the spec that is kept under its name.
    #[serde(default)]
    pub differences: Vec<SpecDifference>,
    /// How long its last starts took that succeeded, at the median, in seconds.
    #[serde(default)]
    pub usual_start: Option<f64>,
}

/// One release of an endpoint.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointRelease {
    /// Its number.
    pub release: u32,
    /// When it was first deployed, in seconds from now.
    pub seconds_ago: f64,
    /// Whether it is served.
    pub is_served: bool,
}

/// `POST /manage/endpoints/{name}/stop`: how long requests may take to end.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EndpointStop {
    /// Seconds, a day at most; what has not ended by then ends with an error. A minute when absent, none at all with 0.
    #[serde(default = "usual_within")]
    pub within: f64,
}

fn usual_within() -> f64 {
    60.0
}
