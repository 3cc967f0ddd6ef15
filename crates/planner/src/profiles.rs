//! The kinds of profiles that a file may hold.

use crate::cpu::CpuProfile;
use crate::profile::{DeviceProfile, ProfileError, read};
use serde::Deserialize;

/// What a profile's file describes.
#[derive(Clone, Debug, PartialEq)]
pub enum Profile {
    /// The processor of a machine.
    Cpu(CpuProfile),
    /// Accelerators that are simulated.
    Simulated(DeviceProfile),
}

impl Profile {
    /// Reads the profile of the processor, which is named `cpu`, or of simulated devices.
    ///
    /// # Errors
    /// When it has another form, or a value cannot be.
    pub fn parse(text: &str) -> Result<Profile, ProfileError> {
        let named: Named = read(text)?;
        if named.name.as_deref() != Some("cpu") {
            return DeviceProfile::parse(text).map(Profile::Simulated);
        }
        let profile: CpuProfile = read(text)?;
        profile.check()?;
        Ok(Profile::Cpu(profile))
    }
}

/// The name of a profile, whatever else it has.
#[derive(Deserialize)]
struct Named {
    name: Option<String>,
}
