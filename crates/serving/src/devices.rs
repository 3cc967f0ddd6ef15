//! All devices of a service, by name.

use crate::device::Device;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use vastrelay_planner::{DeviceProfile, Profile};

/// Most bytes of a profile.
const MOST_PROFILE: u64 = 1 << 20;
/// The name of this machine's processor.
const CPU: &str = "cpu";

/// This machine's processor, and the simulated devices that somebody has asked for.
#[derive(Debug)]
pub struct Devices {
    cpu: Device,
    cores: Cores,
    /// The folder through whose files replicas take turns on simulated devices.
    turns: PathBuf,
    simulated: Mutex<Vec<Device>>,
}

/// The cores that replicas may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cores {
    /// How many there are.
    pub most: usize,
    /// How many a replica gets unless somebody says otherwise.
    usual: usize,
}

impl Cores {
    /// Returns those of a machine: a replica gets all but one, which serves HTTP.
    pub fn of_machine(count: usize) -> Cores {
        Cores {
            most: count,
            usual: count.saturating_sub(1).max(1),
        }
    }

    /// Returns a part of those of a machine, which leaves the others to HTTP.
    pub fn part(count: usize) -> Cores {
        Cores {
            most: count,
            usual: count,
        }
    }

    /// Returns how many a replica gets unless somebody says otherwise: one for each of its shards at least.
    pub fn usual(self, split: usize) -> usize {
        self.usual.max(split.min(self.most))
    }
}

impl Devices {
    /// Returns a processor with so many cores as the only device; on simulated ones replicas will take turns through files in a folder.
    pub fn new(cpu: Device, cores: Cores, turns: PathBuf) -> Devices {
        Devices {
            cpu,
            cores,
            turns,
            simulated: Mutex::default(),
        }
    }

    /// Returns the processor's cores.
    pub fn cores(&self) -> Cores {
        self.cores
    }

    /// Returns all of them, the processor first.
    pub fn all(&self) -> Vec<Device> {
        let simulated = self.simulated.lock().unwrap_or_else(PoisonError::into_inner);
        [&self.cpu].into_iter().chain(simulated.iter()).cloned().collect()
    }

    /// Returns the devices that a name or a profile's file stands for; `beside` is the folder that a file's path begins at. Whoever
    /// asks for the same gets the same.
    ///
    /// # Errors
    /// When it is neither, the file is no profile, or its name is that of other devices here.
    pub fn find(&self, wanted: &str, beside: &Path) -> Result<Device, String> {
        if wanted == CPU {
            return Ok(self.cpu.clone());
        }
        let Profile::Simulated(profile) = profile(wanted, beside)? else {
            return Err(format!(
                "{wanted} describes the cpu for all endpoints: name it with `start --device`, and write `cpu` here"
            ));
        };
        let mut simulated = self.simulated.lock().unwrap_or_else(PoisonError::into_inner);
        match simulated.iter().find(|device| device.name() == profile.name) {
            Some(device) if device.profile() == Some(&profile) => Ok(device.clone()),
            Some(device) => Err(format!(
                "{wanted}: there are devices named `{}` already, with another profile; use another name",
                device.name()
            )),
            None => {
                let device = Device::simulated(profile, &self.turns);
                simulated.push(device.clone());
                Ok(device)
            }
        }
    }
}

/// Returns a profile that ships with the product, or that of a file, whose path begins at a folder.
///
/// # Errors
/// When it is neither, or the file is no profile.
pub fn profile(wanted: &str, beside: &Path) -> Result<Profile, String> {
    let shipped = DeviceProfile::shipped();
    if let Some(profile) = shipped.iter().find(|profile| profile.name == wanted) {
        return Ok(Profile::Simulated(profile.clone()));
    }
    let path = beside.join(wanted);
    if !path.is_file() {
        let names: Vec<&str> = shipped.iter().map(|profile| profile.name.as_str()).collect();
        return Err(format!(
            "`{wanted}` is neither a device profile nor a file; profiles are cpu, {}",
            names.join(", ")
        ));
    }
    let failed = |error: &dyn std::fmt::Display| format!("{}: {error}", path.display());
    let text = vastrelay_files::read(&path, MOST_PROFILE).map_err(|error| failed(&error))?;
    let text = String::from_utf8(text).map_err(|_| failed(&"it is no text"))?;
    Profile::parse(&text).map_err(|error| failed(&error))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_asks_for_the_same_devices_gets_the_same() {
        let folder = tempfile::tempdir().unwrap();
        let shipped = include_str!("../../planner/profiles/sim-24g.toml");
        let devices = Devices::new(
            Device::cpu(1 << 30, || usize::MAX),
            Cores::of_machine(2),
            folder.path().into(),
        );
        let find = |wanted: &str| devices.find(wanted, folder.path());
        let (held, ()) = find("sim-24g").unwrap().hold("a", 1, |_| Ok::<_, ()>((7, ()))).unwrap();
        let looked = find("sim-24g")
            .unwrap()
            .hold("b", 8, |room| Err::<(usize, ()), _>(room.free));
        assert_eq!(looked.err(), Some((24 << 30) - 7));
        drop(held);
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
    }

    #[test]
    fn one_core_serves_http_unless_shards_want_it() {
        let usual = |count, split| Cores::of_machine(count).usual(split);
        assert_eq!([usual(8, 1), usual(8, 8), usual(1, 1), usual(2, 4)], [7, 8, 1, 2]);
        assert_eq!(Cores::part(3).usual(1), 3);
    }
}
