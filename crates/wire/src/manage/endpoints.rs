//! What endpoints are to be.

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
}

/// `POST /manage/check`: how an endpoint would be served.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct EndpointCheck {
    /// The release that is served under its name now.
    pub served: Option<u32>,
    /// Whether anything would be different from that.
    pub is_change: bool,
    /// Whether what is served has to be stopped first, as memory has no room for both.
    pub needs_pause: bool,
    /// Why, in words.
    pub why: Option<String>,
    /// The endpoint as it would be, where there is room for it.
    pub planned: Option<EndpointStatus>,
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
