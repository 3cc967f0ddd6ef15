//! What a configuration needs of a device, and what fits.
//!
//! | module | question it answers |
//! |---|---|
//! | [`memory`] | how is a device's memory divided among weights, workspace and KV pages? |
//! | [`profile`] | what does a kind of device have? |
//! | [`profiles`] | what may a profile's file hold? |
//! | [`accelerator`] | what does a model take on accelerators? |
//! | [`cost`] | how long does a step take there? |
//! | [`cpu`] | what does a processor have, and how long does a step take there? |
//! | [`hardware`] | what do all kinds of devices have in common? |
//! | [`prediction`] | what would callers see? |
//! | [`fit`] | does it fit, over how many devices? |
//! | [`terms`] | what is a line of arithmetic? |
//! | [`arithmetic`] | with which formulas? |
//! | [`usual`] | which width, step budget and share of the memory does a replica have by default? |
//! | [`amounts`] | how are sizes and counts written for people? |
//!
//! The arithmetic is the same for every kind of device; what a kind's executor takes for weights, workspace and pages comes in as
//! [`Sizes`].
#![warn(missing_docs)]

pub mod accelerator;
pub mod amounts;
pub mod arithmetic;
pub mod cost;
pub mod cpu;
pub mod fit;
pub mod hardware;
pub mod memory;
pub mod prediction;
pub mod profile;
pub mod profiles;
pub mod terms;
pub mod usual;

pub use cost::{CostModel, CostRow, StepCost, StepTimes};
pub use cpu::{CpuCost, CpuProfile, CpuSpeed};
pub use fit::{Fitting, Question, SplitFit, WhyNot};
pub use hardware::Hardware;
pub use memory::{DoesNotFit, MemoryPlan, MemoryRequest, PoolPlan, PoolSizes, SequenceRoom, Sizes};
pub use prediction::{Prediction, Typical};
pub use profile::{DeviceProfile, ProfileError};
pub use profiles::Profile;
pub use usual::Usual;
