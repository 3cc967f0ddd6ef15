//! The seam between callers and engines.
//!
//! | module | question it answers |
//! |---|---|
//! | [`build`] | how is a model converted once, ahead of time? |
//! | [`device`] | who holds how much of a device's memory? |
//! | [`generate`] | how does a request reach whatever runs it? |
//! | [`memory`] | what does a configuration need, and what fits? |
//! | [`origin`] | what does a path hold? |
//! | [`quality`] | what does a precision cost? |
//! | [`replica`] | how does a folder of weights become something that answers? |
#![warn(missing_docs)]

pub mod build;
pub mod device;
pub mod generate;
pub mod memory;
pub mod origin;
pub mod quality;
pub mod replica;

pub use device::DeviceMemory;
pub use generate::Generate;
pub use memory::MemoryPlan;
pub use origin::Origin;
pub use replica::{LoadError, Replica, ReplicaSettings};
pub use vastrelay_engine::cpu::Precision;
pub use vastrelay_kernels::Isa;
pub use vastrelay_kernels::attention::KvPrecision;
