//! The ways to run a model that its settings allow: one for each device that they name, in their order.

use crate::deploy::Loader;
use std::path::Path;
use vastrelay_fleet::Settings;
use vastrelay_serving::{Device, LoadError, ReplicaSettings};

/// Maximum sequences in a batch unless somebody says otherwise.
pub const USUAL_WIDTH: usize = 16;
/// Most tokens in a step unless somebody says otherwise.
pub const USUAL_STEP_BUDGET: usize = 320;
/// Most requests that wait unless somebody says otherwise.
pub const USUAL_QUEUE_DEPTH: usize = 400;
/// Fraction of this machine's memory that an endpoint may use unless somebody says otherwise.
pub const USUAL_SHARE_OF_CPU: f64 = 0.4;
/// Fraction of a simulated device's memory that an endpoint may use unless somebody says otherwise.
pub const USUAL_SHARE_OF_SIMULATED: f64 = 0.9;

impl Loader {
    /// Returns the ways; the files of profiles are found from a folder on.
    ///
    /// # Errors
    /// When a device is not known, or has not as many cores as are asked for.
    pub(crate) fn ways(&self, settings: &Settings, beside: &Path) -> Result<Vec<ReplicaSettings>, LoadError> {
        let cpu = [String::from("cpu")];
        let wanted = settings.devices.as_deref().unwrap_or(&cpu);
        let way = |name: &String| {
            let device = self.devices.find(name, beside).map_err(|text| LoadError::Setting {
                key: "device.profile",
                text,
            })?;
            self.way(settings, device)
        };
        wanted.iter().map(way).collect()
    }

    fn way(&self, settings: &Settings, device: Device) -> Result<ReplicaSettings, LoadError> {
        let (split, all) = (settings.split.unwrap_or(1), self.devices.cores());
        let cores = settings.cores.unwrap_or(all.usual(split));
        if cores > all.most && !device.is_simulated() {
            return Err(LoadError::Setting {
                key: "device.cores",
                text: format!("{cores} cores do not work; the cpu has {}", all.most),
            });
        }
        let usual_share = if device.is_simulated() {
            USUAL_SHARE_OF_SIMULATED
        } else {
            USUAL_SHARE_OF_CPU
        };
        Ok(ReplicaSettings {
            width: settings.width.unwrap_or(USUAL_WIDTH),
            step_budget: settings.step_budget.unwrap_or(USUAL_STEP_BUDGET),
            context: settings.context,
            queue_depth: settings.queue_depth.unwrap_or(USUAL_QUEUE_DEPTH),
            queue_wait: settings.queue_wait,
            prefill_chunk: settings.prefill_chunk,
            isa: self.isa,
            cores,
            split,
            memory_share: settings.memory_share.unwrap_or(usual_share),
            pages: settings.pages,
            device,
            weights: settings.weights.unwrap_or_default(),
            kv: settings.kv,
        })
    }
}
