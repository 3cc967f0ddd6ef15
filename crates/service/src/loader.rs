//! What is needed to deploy endpoints.

use crate::builds::Builds;
use crate::workers::Workers;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_fleet::Settings;
use vastrelay_serving::cpu::CpuHardware;
use vastrelay_serving::{Devices, Isa, Models};

/// How endpoints are deployed.
pub struct Loader {
    /// Settings of each of them, where nothing else is said.
    pub defaults: Settings,
    /// Where they run.
    pub devices: Devices,
    /// Instructions of the processor's kernels.
    pub isa: Isa,
    /// Where the processor's profile is kept, once its speed was measured.
    pub cpu_profile: PathBuf,
    /// The text sides of models in use.
    pub models: Models,
    /// Where the demo's weights are unpacked.
    pub data: PathBuf,
    /// Unpacks them and returns their folder.
    pub unpack_demo: fn(&Path) -> Result<PathBuf, String>,
    /// Runs each replica in a process of its own; in this one when absent.
    pub workers: Option<Arc<Workers>>,
    /// Converts models once; each worker does when absent.
    pub builds: Option<Builds>,
}

impl Loader {
    /// Returns the processor as models are fitted to it, where its speed was measured with the cores and instructions that replicas have.
    pub(crate) fn cpu(&self) -> Option<CpuHardware> {
        let cores = self.devices.cores().usual(1);
        let speed = CpuHardware::kept_speed(&self.cpu_profile, self.isa, cores)?;
        let cpu = self.devices.all().into_iter().next()?;
        Some(CpuHardware {
            memory: cpu.total(),
            cores,
            price: 0.0,
            speed,
        })
    }
}
