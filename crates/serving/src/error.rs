//! Why something cannot be loaded.

use crate::devices::device::Holders;
use std::path::PathBuf;
use vastrelay_fleet::cores::NoCores;
use vastrelay_fleet::decider::{About, Failure};
use vastrelay_planner::amounts::bytes;
use vastrelay_planner::{DoesNotFit, WhyNot};
use vastrelay_text::TextError;
use vastrelay_weights::WeightsError;

/// Why a model cannot be served.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LoadError {
    /// The weights or their description.
    #[error(transparent)]
    Weights(#[from] WeightsError),
    /// The tokenizer or template.
    #[error(transparent)]
    Text(#[from] TextError),
    /// The memory.
    #[error("{folder} does not fit: {source}{}{would}", others(holders))]
    Memory {
        /// The model.
        folder: PathBuf,
        /// By how much.
        source: DoesNotFit,
        /// The endpoints that hold memory of the same device.
        holders: Holders,
        /// The single changes that would suffice, as a clause; empty where they are not known.
        would: String,
    },
    /// The memory, which the device has but others use.
    #[error(
        "{folder} does not fit now: it takes {} and {} of this machine's memory are available{}; other programs may use the rest: use \
         fewer pages or a smaller memory share, or end one of those that hold memory",
        bytes(*needed), bytes(*available), others(holders)
    )]
    Available {
        /// The model.
        folder: PathBuf,
        /// Bytes that it takes.
        needed: usize,
        /// Bytes that there are.
        available: usize,
        /// The endpoints that hold memory of the same device.
        holders: Holders,
    },
    /// The processor's cores.
    #[error("{0}; name fewer in `device.cores`")]
    Cores(NoCores),
    /// The simulated devices.
    #[error("{folder} does not fit {split} × {device}: {source}; {would}")]
    Devices {
        /// The model.
        folder: PathBuf,
        /// How many devices.
        split: usize,
        /// Of which kind.
        device: String,
        /// Why.
        source: Box<WhyNot>,
        /// What would fit.
        would: String,
    },
    /// The system refuses a thread.
    #[error("the system refuses a thread: {0}")]
    Thread(std::io::Error),
    /// The memory or the cores, as far as other endpoints have left some.
    #[error("{0}")]
    Full(String),
    /// A setting that cannot be.
    #[error("{text}")]
    Setting {
        /// Which, as specs call it.
        key: &'static str,
        /// What is wrong with it, and what would work.
        text: String,
    },
    /// Something else.
    #[error("{0}")]
    Refused(String),
    /// The worker of a replica did not start.
    #[error("{0}")]
    NotStarted(String),
}

impl LoadError {
    /// Returns whether another device may still have room.
    pub fn is_for_want_of_room(&self) -> bool {
        matches!(
            self,
            LoadError::Memory { .. }
                | LoadError::Available { .. }
                | LoadError::Cores(_)
                | LoadError::Devices { .. }
                | LoadError::Full(_)
        )
    }

    /// Returns it as the decider of endpoints takes it: with the part of a spec that it is about.
    pub fn failure(&self) -> Failure {
        let about = match self {
            LoadError::Setting { key, .. } => About::Spec((*key).into()),
            LoadError::Cores(_) => About::Room("device.cores".into()),
            error if error.is_for_want_of_room() => About::Room("device.profile".into()),
            LoadError::NotStarted(_) => About::Worker,
            LoadError::Thread(_) => About::Other,
            _ => About::Spec("model".into()),
        };
        let why = self.to_string();
        Failure { why, about }
    }
}

/// Lists the other holders of memory, if any.
fn others(holders: &Holders) -> String {
    if holders.is_empty() {
        String::new()
    } else {
        format!("; endpoints on this device hold: {holders}")
    }
}
