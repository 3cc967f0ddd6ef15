//! What is kept of a test.

use crate::record::{RequestRecord, Sample, Setup};
use crate::summary::Summary;
use crate::workload::Workload;
use serde::{Deserialize, Serialize};

/// The form of the document; a reader of another form says so instead of guessing.
pub const FORM: u32 = 1;

/// One load test with everything needed to repeat it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Run {
    /// The document's form: [`FORM`].
    pub form: u32,
    /// Its name for programs.
    pub id: String,
    /// Its name for people.
    pub name: String,
    /// When it began, in milliseconds since 1970.
    pub begun_ms: i64,
    /// What was sent.
    pub workload: Workload,
    /// To what it was sent.
    pub setup: Setup,
    /// Seconds over which throughput is counted.
    pub seconds: f64,
    /// Whether somebody stopped it before its end.
    pub stopped_early: bool,
    /// Each request.
    #[serde(default)]
    pub requests: Vec<RequestRecord>,
    /// How things stood, again and again.
    #[serde(default)]
    pub samples: Vec<Sample>,
    /// What came out.
    pub summary: Summary,
}
