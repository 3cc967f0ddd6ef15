//! What models are fitted to: simulated devices of a kind, or a processor.

use crate::accelerator::Placement;
use crate::cost::{CostModel, StepTimes};
use crate::memory::Sizes;
use crate::profile::DeviceProfile;
use crate::terms::{Term, of_profile};
use crate::usual::Usual;

/// Devices of one kind, as far as it matters whether and how well a model fits.
pub trait Hardware {
    /// Returns what they are called.
    fn name(&self) -> &str;

    /// Returns whether they stand in for what is not here.
    fn is_simulated(&self) -> bool;

    /// Returns how many there are.
    fn count(&self) -> usize;

    /// Returns the memory of each, in bytes.
    fn memory(&self) -> usize;

    /// Returns the settings of a replica where nothing sets them.
    fn usual(&self) -> Usual;

    /// Returns the price of one for an hour.
    fn price(&self) -> f64;

    /// Returns the currency of its price, where its profile names one.
    fn currency(&self) -> Option<&str>;

    /// Returns what a placement takes of the one that has most.
    fn sizes(&self, placement: &Placement<'_>) -> Sizes;

    /// Returns how weights, workspace and process come to that.
    fn arithmetic(&self, placement: &Placement<'_>) -> Vec<Term>;

    /// Returns how long its steps take.
    fn cost(&self, placement: &Placement<'_>) -> Box<dyn StepTimes>;
}

/// Returns profiles as what models are fitted to.
pub fn of_profiles(profiles: &[DeviceProfile]) -> Vec<&dyn Hardware> {
    profiles.iter().map(|profile| profile as &dyn Hardware).collect()
}

impl Hardware for DeviceProfile {
    fn name(&self) -> &str {
        &self.name
    }

    fn is_simulated(&self) -> bool {
        true
    }

    fn count(&self) -> usize {
        self.count
    }

    fn memory(&self) -> usize {
        self.memory_bytes()
    }

    fn usual(&self) -> Usual {
        Usual::on_accelerator()
    }

    fn price(&self) -> f64 {
        self.price.hour
    }

    fn currency(&self) -> Option<&str> {
        self.price.currency.as_deref()
    }

    fn sizes(&self, placement: &Placement<'_>) -> Sizes {
        placement.sizes(self)
    }

    fn arithmetic(&self, placement: &Placement<'_>) -> Vec<Term> {
        of_profile(self, placement)
    }

    fn cost(&self, placement: &Placement<'_>) -> Box<dyn StepTimes> {
        Box::new(CostModel::new(placement, self))
    }
}
