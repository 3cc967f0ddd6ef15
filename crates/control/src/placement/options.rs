//! Placement options: one for each device that the settings of a model name, in their order.

use crate::deployments::request::DeployRequest;
use crate::placement::loader::Loader;
use std::path::PathBuf;
use vastrelay_fleet::{CoreShare, Settings};
use vastrelay_serving::{CoreRequest, Device, LoadError, ReplicaSettings};

/// Most requests that wait by default.
pub const USUAL_QUEUE_DEPTH: usize = 400;

impl Loader {
    /// Returns the placement options of a request.
    ///
    /// # Errors
    /// When a device is not known, or has not as many cores as are asked for.
    pub fn options(&self, settings: &Settings, request: &DeployRequest) -> Result<Vec<ReplicaSettings>, LoadError> {
        let cpu = [String::from("cpu")];
        let wanted = settings.devices.as_deref().unwrap_or(&cpu);
        let option = |name: &String| {
            let key = "device.profile";
            let path = match self.devices.is_named(name) {
                true => PathBuf::from(name),
                false => self.named_file(request, key, request.beside.join(name))?,
            };
            let device = self.devices.find(name, &path);
            let device = device.map_err(|text| LoadError::Setting { key, text })?;
            self.option(settings, device)
        };
        wanted.iter().map(option).collect()
    }

    fn option(&self, settings: &Settings, device: Device) -> Result<ReplicaSettings, LoadError> {
        let split = settings.split.unwrap_or(1);
        let cores = match device.is_simulated() {
            true => CoreRequest::Free { least: 1, most: split },
            false => self.cores(settings.cores, split)?,
        };
        let usual = device.usual();
        Ok(ReplicaSettings {
            width: settings.width.unwrap_or(usual.width),
            step_budget: settings.step_budget.unwrap_or(usual.step_budget),
            context: settings.context,
            queue_depth: settings.queue_depth.unwrap_or(USUAL_QUEUE_DEPTH),
            queue_wait: settings.queue_wait,
            prefill_chunk: settings.prefill_chunk,
            isa: self.isa,
            cores,
            split,
            memory_share: settings.memory_share.unwrap_or(usual.memory_share),
            pages: settings.pages,
            typical: settings.typical,
            device,
            weights: settings.weights.unwrap_or_default(),
            kv: settings.kv,
        })
    }

    /// Returns what a replica of so many shards wants of the processor's cores.
    fn cores(&self, wanted: Option<CoreRequest>, split: usize) -> Result<CoreRequest, LoadError> {
        let all = self.devices.cores();
        let refuse = |cores: CoreShare| LoadError::Setting {
            key: "device.cores",
            text: format!("{cores} cores do not work; the cpu has {}", all.most),
        };
        match wanted {
            Some(CoreRequest::Named(cores)) if cores > CoreShare::whole(all.most) => Err(refuse(cores)),
            Some(CoreRequest::Free { most, .. }) if most == 0 || most > all.most => Err(refuse(CoreShare::whole(most))),
            Some(CoreRequest::Named(cores)) => Ok(CoreRequest::Named(cores)),
            Some(CoreRequest::Free { most, .. }) => Ok(CoreRequest::Free { least: split, most }),
            None => Ok(CoreRequest::Free {
                least: split,
                most: all.usual(split),
            }),
        }
    }
}
