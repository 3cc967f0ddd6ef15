//! Settings of a replica on a kind of device where no spec and no option sets them.

/// Memory that the system, its page cache and other programs need of a machine whose profile has no `reserve`, as a fraction.
const OTHERS: f64 = 0.6;

/// Width, step budget and memory of a replica that follow from its kind of device.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Usual {
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in a step.
    pub step_budget: usize,
    /// Fraction of the device's memory.
    pub memory_share: f64,
}

impl Usual {
    /// Returns the settings on a processor with so many bytes of memory, of which the system and other programs need `reserve`.
    pub fn on_cpu(memory: usize, reserve: Option<usize>) -> Usual {
        let others = reserve.map_or(OTHERS, |reserve| reserve as f64 / memory.max(1) as f64);
        Usual {
            width: 16,
            step_budget: 320,
            memory_share: (1.0 - others).max(0.01),
        }
    }

    /// Returns the settings on an accelerator. All of its memory may be used: the plan of each replica counts what the profile reserves
    /// for driver and program.
    pub fn on_accelerator() -> Usual {
        Usual {
            width: 64,
            step_budget: 512,
            memory_share: 1.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_replica_leaves_to_others_what_the_profile_reserves_for_them() {
        assert_eq!(Usual::on_cpu(16 << 30, Some(4 << 30)).memory_share, 0.75);
        assert!((Usual::on_cpu(16 << 30, None).memory_share - 0.4).abs() < 1e-9);
        assert!(Usual::on_cpu(0, Some(1)).memory_share > 0.0);
    }
}
