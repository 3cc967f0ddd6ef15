//! Long work of the service, and builds.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Long work of the service.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct JobEntry {
    /// Its number.
    pub number: i64,
    /// Its kind: `build` or `load`, or a change of an endpoint: `deploy`, `start`, `stop`, `park`, `renew` or `remove`.
    pub kind: String,
    /// Its title.
    pub name: String,
    /// The endpoint that it is for, empty where it is for none.
    pub endpoint: String,
    /// Its author: the name of a key; `start`, `service`, or empty for a caller without a key.
    pub who: String,
    /// `queued`, `running`, `done`, `failed`, `cancelled`, `replaced` by a newer change, or `interrupted` by the end of its service.
    pub state: String,
    /// The time of the request, in milliseconds since 1970.
    pub at_ms: i64,
    /// How long ago that was, in seconds.
    pub seconds_ago: f64,
    /// How long it has been under way, or took, in seconds.
    pub seconds: f64,
    /// How far it is, from 0 to 1, while that is known.
    pub part: Option<f64>,
    /// Seconds that it will take from now on, as far as one can tell.
    pub seconds_left: Option<f64>,
    /// What came of it: the name of the run or of the build; why nothing did.
    pub outcome: String,
    /// What it said, where one job is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<String>,
}

/// A model that the service has converted once.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct BuildEntry {
    /// A digest of what it is made of and how.
    pub digest: String,
    /// Where its source was.
    pub source: String,
    /// The precision of its weights.
    pub precision: String,
    /// When it was made, in seconds from now.
    pub seconds_ago: f64,
    /// Bytes that it takes on disk.
    pub bytes: u64,
    /// Endpoints with a release that uses it.
    pub users: Vec<String>,
    /// Endpoints whose workers read it now, or are about to.
    #[serde(default)]
    pub using: Vec<String>,
}
