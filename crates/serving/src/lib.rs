//! The seam between callers and engines.
//!
//! | module | question it answers |
//! |---|---|
//! | [`assignment`] | what is a replica to run? |
//! | [`build`] | how is a model converted once, ahead of time? |
//! | [`cores`] | which cores may replicas use? |
//! | [`cpu`] | what is this machine's processor, for a model that is to fit? |
//! | [`device`] | what is a device, and how much memory does it have free? |
//! | [`devices`] | which devices are there? |
//! | [`error`] | why can something not be loaded? |
//! | [`generate`] | how does a request reach an engine? |
//! | [`measure`] | how fast is it? |
//! | [`model`] | how do words become tokens, and tokens words? |
//! | [`origin`] | what does a path hold? |
//! | [`process`] | how does a process of our own begin, and what does it leave? |
//! | [`quality`] | what does a precision cost? |
//! | [`replica`] | how do weights become something that answers? |
//! | [`sizing`] | how large is a replica that has no place yet? |
//! | `touch` | when does the system give the memory that is reserved? |
//! | [`turn`] | who computes next on a device? |
//! | [`worker`] | how does a replica run in a separate process? |
#![warn(missing_docs)]

pub mod assignment;
pub mod build;
pub mod cores;
pub mod cpu;
pub mod device;
pub mod devices;
pub mod error;
pub mod generate;
pub mod measure;
pub mod model;
pub mod origin;
pub mod phase;
pub mod process;
pub mod quality;
pub mod replica;
pub mod sizing;
mod touch;
pub mod turn;
pub mod worker;

pub use assignment::Assignment;
pub use cores::Cores;
pub use device::Device;
pub use devices::Devices;
pub use error::LoadError;
pub use generate::Generate;
pub use model::{Model, Models};
pub use origin::Origin;
pub use replica::{Plan, Replica, ReplicaSettings};
pub use sizing::Sizing;
pub use vastrelay_engine::PAGE_TOKENS;
pub use vastrelay_fleet::cores::CoreRequest;
pub use vastrelay_kernels::Isa;
pub use vastrelay_kernels::attention::KvPrecision;
pub use vastrelay_weights::{Precision, Precisions};
