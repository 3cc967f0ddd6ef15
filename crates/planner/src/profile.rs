//! What a kind of device has: memory, speed, links, power and price.

use bytesize::ByteSize;
use serde::{Deserialize, Serialize};
use vastrelay_weights::Kind;

/// A kind of simulated device, as its TOML file says.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct DeviceProfile {
    /// What it is called.
    pub name: String,
    /// How many devices of this kind there are.
    pub count: usize,
    /// Memory of one.
    pub memory: ByteSize,
    /// What driver and program take of it.
    pub reserve: ByteSize,
    /// Bytes of memory that are read in a second.
    pub bandwidth: f64,
    /// Seconds that it takes to start a kernel.
    pub launch: f64,
    /// Whether it may be taken away at any time.
    #[serde(default)]
    pub interruptible: bool,
    /// Operations in a second.
    pub peak: Peak,
    /// The way to the other devices.
    pub link: Link,
    /// What it draws.
    pub power: Power,
    /// What it costs.
    pub price: Price,
}

/// Operations in a second, by what weights are in.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Peak {
    /// 32-bit floats.
    pub f32: f64,
    /// 16-bit floats.
    pub bf16: f64,
    /// 8-bit numbers.
    pub int8: f64,
    /// 4-bit numbers.
    pub int4: f64,
}

/// The way from a device to each other one.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Link {
    /// Bytes in a second.
    pub bandwidth: f64,
    /// Seconds until the first byte arrives.
    pub delay: f64,
}

/// Watts.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Power {
    /// With nothing to do.
    pub idle: f64,
    /// In the middle of a step.
    pub busy: f64,
}

/// The price of a device.
#[derive(Clone, Debug, PartialEq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Price {
    /// For an hour.
    pub hour: f64,
    /// The currency, such as `EUR`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
}

impl Price {
    /// Refuses a currency that is not a short word of letters.
    pub(crate) fn check(&self) -> Result<(), ProfileError> {
        let is_short = |currency: &str| (1..=8).contains(&currency.len()) && currency.chars().all(char::is_alphabetic);
        match self.currency.as_deref().filter(|currency| !is_short(currency)) {
            None => Ok(()),
            Some(currency) => Err(ProfileError::Value {
                key: "price.currency",
                found: format!("{currency:?}"),
                wanted: "use up to 8 letters, such as \"EUR\"",
            }),
        }
    }
}

/// Reads a file's text.
pub(crate) fn read<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, ProfileError> {
    toml::from_str(text).map_err(|error| {
        let before = &text.as_bytes()[..error.span().map_or(0, |span| span.start)];
        ProfileError::Form {
            line: before.iter().filter(|byte| **byte == b'\n').count() + 1,
            fault: fault(error.message()),
        }
    })
}

/// Says what is wrong with a file without quoting it: the caller who named it may not be allowed to read it.
fn fault(message: &str) -> String {
    let message = message.trim_end();
    if message.starts_with("missing field") {
        return message.to_owned();
    }
    match message.rsplit_once(", expected ") {
        Some((_, expected)) => format!("expected {expected}"),
        None => "not valid TOML".into(),
    }
}

/// A profile cannot be used.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum ProfileError {
    /// It is no TOML, or has other keys or types than a profile.
    #[error("line {line}: {fault}")]
    Form {
        /// The line, counted from 1.
        line: usize,
        /// The missing field, or the expected form.
        fault: String,
    },
    /// A value is out of all bounds.
    #[error("`{key}` is {found}; {wanted}")]
    Value {
        /// Which one.
        key: &'static str,
        /// What it is.
        found: String,
        /// What would work.
        wanted: &'static str,
    },
}

/// Longest name of a device.
const LONGEST_NAME: usize = 100;
/// Most devices of one kind.
const MOST_DEVICES: usize = 1_024;

impl DeviceProfile {
    /// Returns the profiles that ship with the product, the smallest first.
    pub fn shipped() -> Vec<DeviceProfile> {
        [
            include_str!("../profiles/sim-24g.toml"),
            include_str!("../profiles/sim-48g.toml"),
            include_str!("../profiles/sim-80g.toml"),
        ]
        .into_iter()
        .map(|text| DeviceProfile::parse(text).expect("the shipped profiles are sound"))
        .collect()
    }

    /// Reads a profile.
    ///
    /// # Errors
    /// When it has another form, or a value cannot be.
    pub fn parse(text: &str) -> Result<DeviceProfile, ProfileError> {
        let profile: DeviceProfile = read(text)?;
        profile.check()?;
        Ok(profile)
    }

    fn check(&self) -> Result<(), ProfileError> {
        let refuse = |key, found: String, wanted| Err(ProfileError::Value { key, found, wanted });
        let is_named = (1..=LONGEST_NAME).contains(&self.name.len())
            && self
                .name
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c));
        if !is_named || self.name == "cpu" {
            return refuse(
                "name",
                format!("{:?}", self.name),
                "use up to 100 letters, digits, `-`, `_` and `.`, and not `cpu`",
            );
        }
        if self.count == 0 || self.count > MOST_DEVICES {
            return refuse("count", self.count.to_string(), "use 1 to 1024");
        }
        if self.memory.as_u64() > 1 << 50 || self.memory <= self.reserve {
            return refuse(
                "memory",
                self.memory.to_string(),
                "use more than `reserve`, up to 1 PiB",
            );
        }
        for (key, value) in [
            ("bandwidth", self.bandwidth),
            ("peak.f32", self.peak.f32),
            ("peak.bf16", self.peak.bf16),
            ("peak.int8", self.peak.int8),
            ("peak.int4", self.peak.int4),
            ("link.bandwidth", self.link.bandwidth),
        ] {
            if !(1.0..=1e21).contains(&value) {
                return refuse(key, value.to_string(), "use what is done in a second, such as 1.1e12");
            }
        }
        for (key, value) in [("launch", self.launch), ("link.delay", self.link.delay)] {
            if !(0.0..=1.0).contains(&value) {
                return refuse(key, value.to_string(), "use seconds, such as 5e-6");
            }
        }
        for (key, value) in [
            ("power.idle", self.power.idle),
            ("power.busy", self.power.busy),
            ("price.hour", self.price.hour),
        ] {
            if !(0.0..=1e6).contains(&value) {
                return refuse(key, value.to_string(), "use 0 to 1e6");
            }
        }
        self.price.check()
    }

    /// Returns its memory, in bytes.
    pub fn memory_bytes(&self) -> usize {
        self.memory.as_u64() as usize
    }

    /// Returns the operations in a second with weights of a kind.
    pub fn peak_of(&self, kind: Kind) -> f64 {
        use vastrelay_weights::precision::Bits;
        match kind {
            Kind::F32 => self.peak.f32,
            Kind::Bf16 | Kind::F16 => self.peak.bf16,
            Kind::F8 { .. } | Kind::Groups { bits: Bits::Eight, .. } => self.peak.int8,
            Kind::Groups { bits: Bits::Four, .. } => self.peak.int4,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_profiles_are_sound_and_come_by_size() {
        let shipped = DeviceProfile::shipped();
        let names: Vec<&str> = shipped.iter().map(|profile| profile.name.as_str()).collect();
        assert_eq!(names, ["sim-24g", "sim-48g", "sim-80g"]);
        assert!(shipped.is_sorted_by_key(|profile| profile.memory));
        assert_eq!(shipped[1].memory_bytes(), 48 << 30);
    }

    #[test]
    fn what_is_wrong_with_a_profile_is_said_with_its_place() {
        let good = include_str!("../profiles/sim-48g.toml");
        let error = |from: &str, to: &str| {
            assert!(good.contains(from), "{from}");
            DeviceProfile::parse(&good.replace(from, to)).unwrap_err().to_string()
        };
        let unknown = error("launch =", "lunch =");
        assert!(
            unknown.contains("line 7") && unknown.contains("`launch`") && !unknown.contains("lunch"),
            "{unknown}"
        );
        let text = error("\"48 GiB\"", "\"much\"");
        assert!(text.contains("line 4"), "{text}");
        for (from, to, key) in [
            ("\"48 GiB\"", "\"48 MiB\"", "`memory`"),
            ("count = 8", "count = 0", "`count`"),
            ("1.1e12", "-1.0", "`bandwidth`"),
            ("4.5e-6", "45.0", "`launch`"),
            ("\"sim-48g\"", "\"cpu\"", "`name`"),
            ("80e9", "nan", "`link.bandwidth`"),
        ] {
            let text = error(from, to);
            assert!(text.contains(key) && text.contains("use "), "{text}");
        }
    }
}
