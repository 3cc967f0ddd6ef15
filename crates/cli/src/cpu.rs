//! The profile of this machine's processor: measured once, then kept.

use crate::failure::Failure;
use crate::machine::{device_memory, machine_cores};
use crate::plain::note;
use std::path::{Path, PathBuf};
use vastrelay_planner::{CpuProfile, Profile};
use vastrelay_serving::cpu::CpuHardware;
use vastrelay_serving::{Isa, devices};

/// Returns the folder of the service's data and of the profile, unless somebody says otherwise.
pub fn data_folder() -> Result<PathBuf, Failure> {
    let folder = dirs::data_dir().map(|dir| dir.join("vastrelay"));
    folder.ok_or_else(|| Failure::usage("this account has no data directory; choose one with --data DIR"))
}

/// Returns the file of the profile.
pub fn file() -> Result<PathBuf, Failure> {
    Ok(data_folder()?.join("cpu.toml"))
}

/// Returns the profile that was measured on this machine with so many cores, if one was.
pub fn known(cores: usize) -> Result<Option<CpuProfile>, Failure> {
    let file = file()?;
    if !file.is_file() {
        return Ok(None);
    }
    let Profile::Cpu(profile) =
        devices::profile(&file.display().to_string(), Path::new("")).map_err(Failure::failed)?
    else {
        return Ok(None);
    };
    let is_of_here = |profile: &CpuProfile| {
        let speed = profile.speed.as_ref();
        speed.is_some_and(|speed| speed.instructions == Isa::detect().name() && speed.cores == cores)
    };
    Ok(Some(profile).filter(is_of_here))
}

/// Measures the profile with so many cores.
pub fn measure(cores: usize) -> Result<CpuProfile, Failure> {
    let mut say = |what: &str| note(format!("measuring the cpu: {what}"));
    let speed = vastrelay_serving::measure::measure(Isa::detect(), cores, &mut say).map_err(Failure::failed)?;
    Ok(CpuProfile {
        speed: Some(speed),
        ..CpuProfile::whole()
    })
}

/// Writes a profile.
pub fn keep(profile: &CpuProfile, file: &Path) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::failed(format!("cannot write {}: {error}", file.display()));
    if let Some(folder) = file.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    std::fs::write(file, profile.to_toml()).map_err(failed)
}

/// Returns the processor that a profile describes, as models are fitted to it; its speed is measured first where it is not known.
pub fn hardware(profile: CpuProfile) -> Result<CpuHardware, Failure> {
    let cores = profile.cores.unwrap_or(machine_cores().usual(1));
    let speed = match profile.speed {
        Some(speed) => speed,
        None => measured(cores)?.speed.expect("a measured profile has a speed"),
    };
    let memory = profile.memory.map_or(usize::MAX, |memory| memory.as_u64() as usize);
    Ok(CpuHardware {
        memory: memory.min(device_memory()),
        cores,
        price: profile.price.map_or(0.0, |price| price.hour),
        speed,
    })
}

/// Returns the profile that is kept; it is measured first where there is none of so many cores.
fn measured(cores: usize) -> Result<CpuProfile, Failure> {
    if let Some(known) = known(cores)? {
        return Ok(known);
    }
    note("how fast this machine's cpu is has not been measured yet; that takes about a minute, once");
    let profile = measure(cores)?;
    keep(&profile, &file()?)?;
    Ok(profile)
}
