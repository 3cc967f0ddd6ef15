//! Why an endpoint cannot be deployed.

use crate::problem::Problem;
use vastrelay_fleet::{Spec, SpecError};
use vastrelay_serving::LoadError;
use vastrelay_store::StoreError;

/// Why an endpoint cannot be deployed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DeployError {
    /// Its name cannot be one.
    #[error("{0}")]
    Name(String),
    /// Its name is taken.
    #[error("there is an endpoint `{0}` already; choose another name")]
    Taken(String),
    /// Its model cannot be loaded.
    #[error("`{name}` cannot be served: {source}")]
    Load {
        /// The endpoint.
        name: String,
        /// Why.
        source: Box<LoadError>,
    },
    /// Somebody else changes it.
    #[error("somebody else changes `{0}` just now; try again when that is done")]
    Changing(String),
    /// Another release is served than the change began from.
    #[error(
        "`{name}` is served as release {now}, not {from}: somebody has changed it meanwhile; look at it again and deploy then"
    )]
    Stale {
        /// The endpoint.
        name: String,
        /// The release that the change began from.
        from: u32,
        /// The one that is served.
        now: u32,
    },
    /// There is no room for both releases.
    #[error(
        "there is no room beside what `{name}` holds now; with a pause for its callers it can be stopped first (`with_pause`): {source}"
    )]
    NeedsPause {
        /// The endpoint.
        name: String,
        /// What would be needed.
        source: Box<DeployError>,
    },
    /// It was never served.
    #[error("nothing is kept of `{0}`; deploy it")]
    NotKept(String),
    /// What was kept cannot be read.
    #[error("`{name}` was kept with a spec that this version does not read: {source}")]
    Kept {
        /// The endpoint.
        name: String,
        /// Why.
        source: SpecError,
    },
    /// Its release cannot be recorded.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl DeployError {
    /// Returns where in a spec something stands that cannot be served, and why, where that is what it is about.
    pub fn refused_in(&self, spec: &Spec) -> Option<SpecError> {
        let DeployError::Load { source, .. } = self else {
            return None;
        };
        Some(match &**source {
            // The spec may be right, so that no place in it is to blame.
            LoadError::NotStarted(_) => return None,
            LoadError::Setting { key, text } => spec.refuse(key, format!("`{key}`: {text}")),
            error @ LoadError::Cores(_) => spec.refuse("device.cores", error.to_string()),
            error if error.is_for_want_of_room() => spec.refuse("device.profile", error.to_string()),
            error => spec.refuse("model", error.to_string()),
        })
    }

    /// Returns whether it would work on a device with more memory, or less on it.
    pub(crate) fn is_for_want_of_room(&self) -> bool {
        matches!(self, DeployError::Load { source, .. } if source.is_for_want_of_room())
    }

    /// Returns whether the same may work later.
    pub(crate) fn may_pass(&self) -> bool {
        self.is_for_want_of_room() || matches!(self, DeployError::Store(_))
    }

    /// Returns why an endpoint cannot be started again: 409 when it has no room now, else 503, with the reason.
    pub(crate) fn not_started(&self) -> Problem {
        match self.is_for_want_of_room() {
            true => Problem::conflict("no_room", self.to_string()),
            false => Problem::unavailable("endpoint_failed", &self.to_string()),
        }
    }

    pub(crate) fn load(name: &str, source: LoadError) -> DeployError {
        DeployError::Load {
            name: name.to_owned(),
            source: Box::new(source),
        }
    }
}

impl From<DeployError> for Problem {
    fn from(error: DeployError) -> Problem {
        let text = error.to_string();
        match error {
            DeployError::Name(_) => Problem::field("name", text),
            DeployError::Taken(_) => Problem::conflict("name_taken", text),
            DeployError::Changing(_) => Problem::conflict("endpoint_changing", text),
            DeployError::Stale { .. } => Problem::conflict("release_changed", text),
            DeployError::NeedsPause { .. } => Problem::conflict("pause_needed", text),
            DeployError::Load { source, .. } if matches!(*source, LoadError::NotStarted(_)) => {
                Problem::unavailable("endpoint_failed", &text)
            }
            DeployError::Load { .. } => Problem::field("path", text),
            DeployError::NotKept(_) => Problem::conflict("endpoint_not_kept", text),
            DeployError::Kept { .. } => Problem::field("spec", text),
            DeployError::Store(_) => Problem::internal(text),
        }
    }
}
