//! The parts of a worker's start.

use serde::{Deserialize, Serialize};

/// A part of a start.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum StartPhase {
    /// Its process begins.
    StartingWorker,
    /// The model's files are compared with their digests.
    VerifyingFiles,
    /// Weights are read and prepared.
    LoadingWeights,
}

impl StartPhase {
    /// Returns its name.
    pub fn name(self) -> &'static str {
        match self {
            StartPhase::StartingWorker => "starting worker",
            StartPhase::VerifyingFiles => "verifying files",
            StartPhase::LoadingWeights => "loading weights",
        }
    }
}
