//! All devices of a service, by name.

use crate::devices::cores::Cores;
use crate::devices::device::{Device, WeakDevice};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use vastrelay_planner::{DeviceProfile, Profile};

/// Most bytes of a profile.
const MOST_PROFILE: u64 = 1 << 20;
/// The name of this machine's processor.
const CPU: &str = "cpu";

/// This machine's processor, and the simulated devices that endpoints have: they are forgotten with the last of these.
#[derive(Debug)]
pub struct Devices {
    cpu: Device,
    /// The folder through whose files replicas take turns on simulated devices.
    turns: PathBuf,
    simulated: Mutex<Vec<WeakDevice>>,
}

impl Devices {
    /// Returns a processor as the only device; on simulated ones replicas will take turns through files in a folder.
    ///
    /// # Panics
    /// When it is none.
    pub fn new(cpu: Device, turns: PathBuf) -> Devices {
        assert!(cpu.cores().is_some(), "a processor has cores");
        Devices {
            cpu,
            turns,
            simulated: Mutex::default(),
        }
    }

    /// Returns the processor's cores.
    pub fn cores(&self) -> Cores {
        self.cpu.cores().expect("a processor has cores")
    }

    /// Returns all of them, the processor first.
    pub fn all(&self) -> Vec<Device> {
        let simulated = self.simulated.lock().unwrap_or_else(PoisonError::into_inner);
        let simulated = simulated.iter().filter_map(WeakDevice::upgrade);
        std::iter::once(self.cpu.clone()).chain(simulated).collect()
    }

    /// Returns whether a name stands for devices without a profile's file.
    pub fn is_named(&self, wanted: &str) -> bool {
        wanted == CPU || DeviceProfile::shipped().iter().any(|profile| profile.name == wanted)
    }

    /// Returns the devices that a name or the profile's file at `path` stands for. The same question gets the same devices.
    ///
    /// # Errors
    /// When it is neither, the file is no profile, or its name is that of other devices here.
    pub fn find(&self, wanted: &str, path: &Path) -> Result<Device, String> {
        if wanted == CPU {
            return Ok(self.cpu.clone());
        }
        let Profile::Simulated(profile) = profile(wanted, path)? else {
            return Err(format!(
                "{wanted} describes the cpu for all endpoints: name it with `start --device`, and write `cpu` here"
            ));
        };
        let mut simulated = self.simulated.lock().unwrap_or_else(PoisonError::into_inner);
        simulated.retain(|device| device.upgrade().is_some());
        let mut known = simulated.iter().filter_map(WeakDevice::upgrade);
        match known.find(|device| device.name() == profile.name) {
            Some(device) if device.profile() == Some(&profile) => Ok(device),
            Some(device) => Err(format!(
                "{wanted}: there are devices named `{}` already, with another profile; use another name",
                device.name()
            )),
            None => {
                let device = Device::simulated(profile, &self.turns);
                simulated.push(device.downgrade());
                Ok(device)
            }
        }
    }
}

/// Returns a profile that ships with the product, or that of the file at `path`.
///
/// # Errors
/// When it is neither, or the file is no profile.
pub fn profile(wanted: &str, path: &Path) -> Result<Profile, String> {
    let shipped = DeviceProfile::shipped();
    if let Some(profile) = shipped.iter().find(|profile| profile.name == wanted) {
        return Ok(Profile::Simulated(profile.clone()));
    }
    if !path.is_file() {
        let names: Vec<&str> = shipped.iter().map(|profile| profile.name.as_str()).collect();
        return Err(format!(
            "`{wanted}` is neither a device profile nor a file; profiles are cpu, {}",
            names.join(", ")
        ));
    }
    let shown = vastrelay_files::shown(path);
    let failed = |error: &dyn std::fmt::Display| format!("{}: {error}", shown.display());
    let text = vastrelay_files::read(path, MOST_PROFILE).map_err(|error| failed(&error))?;
    let text = String::from_utf8(text).map_err(|_| failed(&"it is no text"))?;
    Profile::parse(&text).map_err(|error| failed(&error))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_asks_for_the_same_devices_gets_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let shipped = include_str!("../../../planner/profiles/sim-24g.toml");
        let devices = Devices::new(
            Device::cpu(1 << 30, Cores::of_machine(2), || usize::MAX),
            folder.path().into(),
        );
        let find = |wanted: &str| devices.find(wanted, &folder.path().join(wanted));
        let found = find("sim-24g").unwrap();
        let _reserved = found.reserve_anyway(7);
        let available = find("sim-24g").unwrap().reserve(usize::MAX, 0).unwrap_err();
        assert_eq!(available, usize::MAX - 7);
        std::fs::write(folder.path().join("same.toml"), shipped).unwrap();
        std::fs::write(
            folder.path().join("other.toml"),
            shipped.replace("count = 8", "count = 2"),
        )
        .unwrap();
        assert!(find("same.toml").is_ok());
        assert!(find("other.toml").unwrap_err().contains("another name"));
        assert!(find("sim-9g").unwrap_err().contains("sim-24g, sim-48g, sim-80g"));
        let names: Vec<String> = devices.all().iter().map(|device| device.name().to_owned()).collect();
        assert_eq!(names, ["cpu", "sim-24g"]);
        drop(found);
        assert_eq!(devices.all().len(), 1, "no endpoint has them");
        assert!(find("other.toml").is_ok(), "their name is free again");
    }
}
