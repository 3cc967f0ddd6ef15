//! The demo model and small settings for it.

use std::path::{Path, PathBuf};
use vastrelay_serving::{CoreRequest, Cores, Device, Isa, Precision, ReplicaSettings};

/// Returns its folder.
pub fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1")
}

/// Returns settings with which many of it fit beside each other.
pub fn settings() -> ReplicaSettings {
    ReplicaSettings {
        width: 4,
        step_budget: 64,
        context: Some(256),
        queue_depth: 4_096,
        queue_wait: None,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: CoreRequest::Free { least: 1, most: 1 },
        split: 1,
        memory_share: 0.5,
        pages: None,
        typical: None,
        device: Device::cpu(1 << 30, Cores::part(1), || usize::MAX),
        weights: Precision::AsStored,
        kv: None,
    }
}
