//! What is kept of a test.

use crate::earlier::upgrade;
use crate::record::{RequestRecord, Sample, Setup};
use crate::summary::Summary;
use crate::workload::Workload;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The form of the document; a reader of a later form says so instead of guessing.
pub const FORM: u32 = 2;

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
    /// Why it ended before its time, where that was not its sender's wish.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_because: Option<String>,
    /// Each request.
    #[serde(default)]
    pub requests: Vec<RequestRecord>,
    /// How things stood, again and again.
    #[serde(default)]
    pub samples: Vec<Sample>,
    /// What came out.
    pub summary: Summary,
}

impl Run {
    /// Reads a document of today's form or an earlier one.
    ///
    /// # Errors
    /// When it is not a run, or one of a later form.
    pub fn read(document: &str) -> Result<Run, String> {
        #[derive(Deserialize)]
        struct Form {
            form: u32,
        }
        let Form { form } = serde_json::from_str(document).map_err(|error| error.to_string())?;
        if form == FORM {
            return serde_json::from_str(document).map_err(|error| error.to_string());
        }
        Run::of(serde_json::from_str(document).map_err(|error| error.to_string())?)
    }

    /// Returns the run of a document of today's form or an earlier one.
    ///
    /// # Errors
    /// When it is not a run, or one of a later form.
    pub fn of(document: Value) -> Result<Run, String> {
        Run::deserialize(current(document)?).map_err(|error| error.to_string())
    }
}

/// Returns a run's document in today's form.
///
/// # Errors
/// When it has none, or a later one.
pub fn current(mut document: Value) -> Result<Value, String> {
    match document["form"].as_u64() {
        Some(form) if form <= u64::from(FORM) => {
            upgrade(&mut document);
            Ok(document)
        }
        Some(form) => Err(format!("its form is {form}; this version reads forms up to {FORM}")),
        None => Err("it does not say its `form`".into()),
    }
}
