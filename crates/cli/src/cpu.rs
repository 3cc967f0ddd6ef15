//! The profile of this machine's processor: measured once, then kept.

use crate::failure::Failure;
use crate::machine::{device_memory, machine_cores};
use crate::plain::note;
use std::path::{Path, PathBuf};
use vastrelay_planner::{CpuProfile, CpuSpeed, Usual};
use vastrelay_serving::Isa;
use vastrelay_serving::measurement::cpu::CpuHardware;

/// Returns the default folder of the service's data and of the profile.
pub fn data_folder() -> Result<PathBuf, Failure> {
    let folder = dirs::data_dir().map(|dir| dir.join("vastrelay"));
    folder.ok_or_else(|| Failure::usage("this account has no data directory; choose one with --data DIR"))
}

/// Returns the file of the profile.
pub fn file() -> Result<PathBuf, Failure> {
    Ok(data_folder()?.join("cpu.toml"))
}

/// Returns the speed that was measured on this machine with so many cores, if it was.
pub fn known(cores: usize) -> Result<Option<CpuSpeed>, Failure> {
    Ok(CpuHardware::kept_speed(&file()?, Isa::detect(), cores))
}

/// Measures the speed with so many cores.
pub fn measure(cores: usize) -> Result<CpuSpeed, Failure> {
    let mut say = |what: &str| note(format!("measuring the cpu: {what}"));
    vastrelay_serving::measurement::measure(Isa::detect(), cores, &mut say).map_err(Failure::failed)
}

/// Writes the profile of the whole processor.
pub fn keep(speed: &CpuSpeed, file: &Path) -> Result<(), Failure> {
    let profile = of_speed(Some(speed.clone()));
    let failed = |error: std::io::Error| {
        Failure::failed(format!(
            "cannot write {}: {}",
            file.display(),
            vastrelay_files::reason(&error)
        ))
    };
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
        None => measured(cores)?,
    };
    let memory = profile.memory.map_or(usize::MAX, |memory| memory.as_u64() as usize);
    let memory = memory.min(device_memory());
    let reserve = profile.reserve.map(|reserve| reserve.as_u64() as usize);
    Ok(CpuHardware {
        memory,
        cores,
        usual: Usual::on_cpu(memory, reserve),
        price: profile.price.as_ref().map_or(0.0, |price| price.hour),
        currency: profile.price.and_then(|price| price.currency),
        speed,
    })
}

/// Returns the profile of the whole processor.
pub fn of_speed(speed: Option<CpuSpeed>) -> CpuProfile {
    CpuProfile {
        speed,
        ..CpuProfile::whole()
    }
}

/// Returns the speed that is kept; it is measured first where there is none of so many cores.
fn measured(cores: usize) -> Result<CpuSpeed, Failure> {
    if let Some(known) = known(cores)? {
        return Ok(known);
    }
    note("how fast this machine's cpu is has not been measured yet; that takes about a minute, once");
    let speed = measure(cores)?;
    keep(&speed, &file()?)?;
    Ok(speed)
}
