//! Our own management API under `/manage`.

mod costs;
mod devices;
mod endpoints;
mod events;
mod fit;
mod history;
mod jobs;
pub mod requests;
mod status;
mod steps;

pub use costs::{EndpointCosts, SettingChoice, SettingCosts};
pub use devices::{DeviceOwner, DevicePlace, DevicePower, DeviceStatus};
pub use endpoints::{
    ColdStart, EndpointCheck, EndpointDetail, EndpointRelease, EndpointStop, EndpointUser, LogLine, PhaseTime,
    RestingEndpoint, SpecDifference,
};
pub use events::{EndpointEvent, EventKind, Renewal};
pub use fit::{FitAnswer, FitCheapest, FitDevice, FitFigures, FitPoint, FitPrediction, FitReport, FitTerm, FitWay};
pub use history::{History, HistoryPoint};
pub use jobs::{BuildEntry, JobEntry};
pub use requests::{CallDetail, CallMove, CallText, RecordedCall};
pub use status::{
    CapacityStatus, EndpointStatus, LoopStatus, MemoryStatus, OccupancyStatus, PoolStatus, PrecisionStatus,
    ReplicaStatus, SequenceRoom, ServiceStatus, Spread, Totals, WindowFigures,
};
pub use steps::{ReplicaSteps, Step, StepAdmission, StepLane};

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// `POST /manage/endpoints`: an endpoint to be deployed.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewEndpoint {
    /// The name that callers will use.
    pub name: String,
    /// A folder of weights on the service's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The demo's own weights instead.
    #[serde(default)]
    pub demo: bool,
    /// A spec, as TOML, instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spec: Option<String>,
    /// The folder on the service's machine that paths in the spec begin at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beside: Option<String>,
    /// An earlier release of the endpoint, by its number, instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<u32>,
    /// The release that a change begins from: it is refused when another one is served meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_release: Option<u32>,
    /// Whether a change may stop what is served first, where memory has no room for both.
    #[serde(default)]
    pub with_pause: bool,
}

/// The answer of `DELETE /manage/runs/{id}`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct RemovedRun {
    /// The id of the load test that is gone.
    pub id: String,
}

/// One of `GET /manage/runs`: a load test that was kept.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct RunEntry {
    /// Its name.
    pub id: String,
    /// When it began, in milliseconds since 1970.
    pub at_ms: i64,
    /// The whole of it.
    pub run: Value,
}
