//! What is on each device.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One of `GET /manage/devices`: devices of one kind.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct DeviceStatus {
    /// The kind, such as `cpu` or `sim-48g`.
    pub name: String,
    /// Whether they stand in for hardware that is not here.
    pub simulated: bool,
    /// Bytes of memory of each.
    pub memory: usize,
    /// Cores that replicas may use, where it is a processor.
    #[serde(default)]
    pub cores: Option<usize>,
    /// What each draws, where that is known.
    pub power: Option<DevicePower>,
    /// Each of them.
    pub places: Vec<DevicePlace>,
}

/// Watts, as a device's profile says.
#[derive(Clone, Copy, Debug, Deserialize, Serialize, ToSchema)]
pub struct DevicePower {
    /// With nothing to do.
    pub idle: f64,
    /// In the middle of a step.
    pub busy: f64,
}

/// One device. What its owners and others hold and what is free adds up to its memory.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct DevicePlace {
    /// Its number, from 1 on.
    pub number: usize,
    /// Replicas that hold a part of it.
    pub owners: Vec<DeviceOwner>,
    /// Bytes that replicas hold which are being started or ended.
    #[serde(default)]
    pub changing: usize,
    /// Bytes that other programs have taken.
    pub others: usize,
    /// Bytes that a replica may still take.
    pub free: usize,
}

/// A replica's part of one device, in bytes.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct DeviceOwner {
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The replica.
    pub replica: u32,
    /// Which of its lives.
    pub incarnation: u64,
    /// Seconds since that began.
    pub uptime: f64,
    /// Weights; none where another owner holds those that it reads, too.
    pub weights: usize,
    /// The endpoint that holds them then.
    #[serde(default)]
    pub weights_of: Option<String>,
    /// Activations and tables.
    pub workspace: usize,
    /// What it takes besides.
    pub process: usize,
    /// KV pages reserved.
    pub kv_reserved: usize,
    /// KV pages that hold something now.
    pub kv_used: usize,
    /// Cores of the processor that its endpoint holds.
    #[serde(default)]
    pub cores: f64,
    /// The share of its life in which it was in a step.
    pub busy_share: f64,
}

impl DeviceOwner {
    /// Returns all that it has reserved.
    pub fn reserved(&self) -> usize {
        self.weights + self.workspace + self.process + self.kv_reserved
    }
}
