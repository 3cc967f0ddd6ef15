//! The parts that deployments need: devices, builds, workers and files.

use crate::builds::Builds;
use crate::deployments::request::DeployRequest;
use crate::replicas::workers::Workers;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_files::Roots;
use vastrelay_fleet::Settings;
use vastrelay_serving::measurement::cpu::CpuHardware;
use vastrelay_serving::{Devices, Isa, LoadError, Models};

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
    /// Folders beneath which callers over TCP may name files.
    pub roots: Roots,
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
    /// Returns a path that a request's `key` names, as it is opened: as it is where the service's own user named it, else
    /// confined to a root.
    ///
    /// # Errors
    /// When it lies beneath no root. The path is not looked up then, so the refusal does not show whether the file exists.
    pub fn named_file(&self, request: &DeployRequest, key: &'static str, path: PathBuf) -> Result<PathBuf, LoadError> {
        if request.is_granted(&path) {
            return Ok(path);
        }
        self.beneath_a_root(&path)
            .map_err(|text| LoadError::Setting { key, text })
    }

    /// Returns a path that a caller over TCP names, confined to its root.
    ///
    /// # Errors
    /// When it lies beneath no root; the text says which there are and how to add one.
    pub fn beneath_a_root(&self, path: &Path) -> Result<PathBuf, String> {
        self.roots.confine(path).ok_or_else(|| {
            let roots: Vec<String> = self
                .roots
                .folders()
                .iter()
                .map(|root| root.display().to_string())
                .collect();
            let folder = path
                .parent()
                .filter(|folder| path.is_absolute() && folder.parent().is_some());
            let folder = folder.unwrap_or(Path::new("DIR")).display();
            format!(
                "`{}` is in none of the folders that callers over the network may name: {}; start the service with \
                 `--root {folder}`, or run the command as the service's user on its machine",
                path.display(),
                roots.join(", ")
            )
        })
    }

    /// Returns the processor as models are fitted to it, where its speed was measured with the cores and instructions that replicas have.
    pub fn cpu(&self) -> Option<CpuHardware> {
        let cores = self.devices.cores().usual(1);
        let speed = CpuHardware::kept_speed(&self.cpu_profile, self.isa, cores)?;
        let cpu = self.devices.all().into_iter().next()?;
        Some(CpuHardware {
            memory: cpu.total(),
            cores,
            usual: cpu.usual(),
            price: 0.0,
            currency: None,
            speed,
        })
    }
}
