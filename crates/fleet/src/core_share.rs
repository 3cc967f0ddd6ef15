//! A part of a processor's cores.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Thousandths of a core.
const ONE: u32 = 1000;

/// So many cores, or a fraction of one: the replica of a fraction shares the core with others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct CoreShare {
    thousandths: u32,
}

impl CoreShare {
    /// The smallest part that a replica may have.
    pub const LEAST: CoreShare = CoreShare { thousandths: ONE / 20 };

    /// Returns so many whole cores.
    pub fn whole(count: usize) -> CoreShare {
        let count = u32::try_from(count).unwrap_or(u32::MAX);
        CoreShare {
            thousandths: count.saturating_mul(ONE),
        }
    }

    /// Returns a number of cores that somebody has written.
    ///
    /// # Errors
    /// When it is neither a whole number nor a fraction of one that can be had.
    pub fn of(cores: f64) -> Result<CoreShare, String> {
        let is_whole = cores.fract() == 0.0 && (1.0..=f64::from(u16::MAX)).contains(&cores);
        if !is_whole && !(CoreShare::LEAST.cores()..1.0).contains(&cores) {
            return Err(format!(
                "{cores} does not work; use a whole number, or a fraction of a core from {} on",
                CoreShare::LEAST
            ));
        }
        Ok(CoreShare {
            thousandths: (cores * f64::from(ONE)).round() as u32,
        })
    }

    /// Returns it as a number.
    pub fn cores(self) -> f64 {
        f64::from(self.thousandths) / f64::from(ONE)
    }

    /// Returns the whole cores in it.
    pub fn whole_cores(self) -> usize {
        (self.thousandths / ONE) as usize
    }

    /// Returns one of so many equal parts of it.
    pub(crate) fn part(self, of: usize) -> CoreShare {
        let parts = u32::try_from(of.max(1)).unwrap_or(u32::MAX);
        CoreShare {
            thousandths: self.thousandths / parts,
        }
    }

    /// Returns both together.
    pub(crate) fn and(self, other: CoreShare) -> CoreShare {
        CoreShare {
            thousandths: self.thousandths.saturating_add(other.thousandths),
        }
    }

    /// Returns what is left of it without another one.
    pub(crate) fn without(self, other: CoreShare) -> CoreShare {
        CoreShare {
            thousandths: self.thousandths.saturating_sub(other.thousandths),
        }
    }
}

impl fmt::Display for CoreShare {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.cores())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_cores_and_fractions_of_one_can_be_written() {
        let read = |cores: f64| CoreShare::of(cores).map(|share| (share.to_string(), share.whole_cores()));
        assert_eq!(read(2.0), Ok(("2".into(), 2)));
        assert_eq!(read(0.25), Ok(("0.25".into(), 0)));
        assert_eq!(read(0.05), Ok(("0.05".into(), 0)));
        for wrong in [0.0, -1.0, 0.01, 1.5, f64::NAN, f64::INFINITY, 1e9] {
            let text = read(wrong).unwrap_err();
            assert!(
                text.contains("a whole number, or a fraction of a core from 0.05 on"),
                "{text}"
            );
        }
    }
}
