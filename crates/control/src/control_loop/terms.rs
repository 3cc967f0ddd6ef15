//! The decider's terms in this service: specs as they are written, and the sizes of replicas.

use crate::deployments::request::DeployRequest;
use std::path::PathBuf;
use vastrelay_fleet::SpecError;
use vastrelay_fleet::decider::{self, Failure, Terms};
use vastrelay_serving::Sizing;
use vastrelay_store::{ChangeRecord, Granted, StoredEndpoint, StoredState};

/// The decider's terms.
#[derive(Clone, Debug)]
pub struct ControlTerms;

impl Terms for ControlTerms {
    type Spec = SpecText;
    type Need = Sizing;
}

pub type Decider = decider::Decider<ControlTerms>;
pub type Event = decider::Event<ControlTerms>;
pub type Action = decider::Action<ControlTerms>;
/// A change of an endpoint.
pub type Change = decider::Change<SpecText>;
pub type Write = decider::Write<SpecText>;
pub type Decided = decider::Endpoint<ControlTerms>;

/// A spec as it is written, which this version may not understand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpecText {
    /// The text.
    pub text: String,
    /// The folder that paths in it begin at.
    pub beside: PathBuf,
    /// Which files it may name.
    pub granted: Granted,
    /// The author of the change.
    pub by: String,
    /// Whether the service made it, with nothing but the model.
    pub is_plain: bool,
}

impl SpecText {
    /// Returns the spec of a request.
    pub fn of(request: &DeployRequest) -> SpecText {
        SpecText {
            text: request.text.clone(),
            beside: request.beside.clone(),
            granted: request.granted.clone(),
            by: request.by.clone(),
            is_plain: request.is_plain,
        }
    }

    /// Returns the spec of a kept endpoint.
    pub fn of_kept(kept: &StoredEndpoint, by: &str) -> SpecText {
        SpecText {
            text: kept.spec.clone(),
            beside: PathBuf::from(&kept.beside),
            granted: kept.granted.clone(),
            by: by.to_owned(),
            is_plain: false,
        }
    }

    /// Returns what is kept of an endpoint with this spec.
    pub fn to_keep(&self, name: &str, state: StoredState, release: u32) -> StoredEndpoint {
        StoredEndpoint {
            name: name.to_owned(),
            spec: self.text.clone(),
            beside: self.beside.display().to_string(),
            state,
            granted: self.granted.clone(),
            release,
        }
    }

    /// Returns the place in the spec that caused a failure, and the reason; `None` without such a place, and for specs that the service made.
    pub fn refused(&self, name: &str, failure: &Failure) -> Option<String> {
        let refused = self.request(name).ok()?.refused(failure);
        refused.map(|refused| refused.to_string())
    }

    /// Reads it.
    ///
    /// # Errors
    /// When this version does not understand it.
    pub fn request(&self, name: &str) -> Result<DeployRequest, SpecError> {
        let request = DeployRequest::of_spec(name, &self.text, &self.beside, &self.by)?;
        Ok(DeployRequest {
            is_plain: self.is_plain,
            ..request.with(self.granted.clone())
        })
    }
}

/// Returns a change as it is stored.
pub fn record(name: &str, number: i64, change: &Change) -> ChangeRecord {
    let within = |within: &u64| Some(i64::try_from(*within).unwrap_or(i64::MAX));
    let record = ChangeRecord {
        number,
        endpoint: name.to_owned(),
        kind: change_kind(change).to_owned(),
        ..ChangeRecord::default()
    };
    match change {
        Change::Deploy {
            spec,
            from_release,
            with_pause,
        } => ChangeRecord {
            spec: spec.text.clone(),
            beside: spec.beside.display().to_string(),
            granted: spec.granted.clone(),
            from_release: *from_release,
            with_pause: *with_pause,
            ..record
        },
        Change::Stop { within: time } | Change::Park { within: time } | Change::Renew { within: time } => {
            ChangeRecord {
                within_ms: within(time),
                ..record
            }
        }
        Change::Start | Change::Remove => record,
    }
}

/// Returns the change of a record; nothing where a later version has written it.
pub fn change_of(record: &ChangeRecord, by: &str) -> Option<Change> {
    let within = record
        .within_ms
        .and_then(|within| u64::try_from(within).ok())
        .unwrap_or(0);
    Some(match record.kind.as_str() {
        "deploy" => Change::Deploy {
            spec: SpecText {
                text: record.spec.clone(),
                beside: PathBuf::from(&record.beside),
                granted: record.granted.clone(),
                by: by.to_owned(),
                is_plain: false,
            },
            // It has begun already.
            from_release: None,
            with_pause: record.with_pause,
        },
        "start" => Change::Start,
        "stop" => Change::Stop { within },
        "park" => Change::Park { within },
        "renew" => Change::Renew { within },
        "remove" => Change::Remove,
        _ => return None,
    })
}

/// Returns the kind of a change, in one word.
pub fn change_kind(change: &Change) -> &'static str {
    match change {
        Change::Deploy { .. } => "deploy",
        Change::Start => "start",
        Change::Stop { .. } => "stop",
        Change::Park { .. } => "park",
        Change::Renew { .. } => "renew",
        Change::Remove => "remove",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_change_that_is_stored_comes_back_as_it_was() {
        let spec = SpecText {
            text: "model = \"x\"".into(),
            beside: "/harbour".into(),
            granted: Granted::Only(vec!["/a".into()]),
            by: "anna".into(),
            is_plain: false,
        };
        for change in [
            Change::Deploy {
                spec,
                from_release: None,
                with_pause: true,
            },
            Change::Start,
            Change::Stop { within: 7 },
            Change::Park { within: 0 },
            Change::Renew { within: u64::MAX >> 1 },
            Change::Remove,
        ] {
            let record = record("desk", 5, &change);
            assert_eq!((record.number, record.endpoint.as_str()), (5, "desk"));
            assert_eq!(change_of(&record, "anna"), Some(change));
        }
        let unknown = ChangeRecord {
            kind: "later".into(),
            ..ChangeRecord::default()
        };
        assert_eq!(change_of(&unknown, ""), None);
    }
}
