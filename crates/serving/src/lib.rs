//! The seam between callers and engines.
//!
//! | module | question it answers |
//! |---|---|
//! | [`generate`] | how does a request reach whatever runs it? |
//! | [`memory`] | what does a configuration need, and what fits? |
//! | [`quality`] | what does a precision cost? |
//! | [`replica`] | how does a folder of weights become something that answers? |
#![warn(missing_docs)]

pub mod generate;
pub mod memory;
pub mod quality;
pub mod replica;

pub use generate::Generate;
pub use memory::MemoryPlan;
pub use replica::{LoadError, Replica, ReplicaSettings};
pub use vastrelay_engine::cpu::Precision;
pub use vastrelay_kernels::attention::KvPrecision;
