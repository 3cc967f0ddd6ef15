//! The seam between callers and engines.
//!
//! | room | what it has |
//! |---|---|
//! | [`worker`] | the process of a replica, from both sides |
//! | [`replicas`] | what runs, how large it is, and how a request reaches it |
//! | [`measurement`] | how fast this machine's processor is |
//! | [`models`] | text sides, weights and builds |
//! | [`devices`] | memory, cores and turns |
//! | [`process`] | processes of our own, and what they leave |
//! | [`error`] | why something cannot be loaded |
#![warn(missing_docs)]

pub mod devices;
pub mod error;
pub mod measurement;
pub mod models;
pub mod process;
pub mod replicas;
pub mod worker;

pub use devices::cores::Cores;
pub use devices::device::Device;
pub use devices::registry::Devices;
pub use error::LoadError;
pub use models::model::{Model, Models};
pub use models::origin::Origin;
pub use replicas::assignment::Assignment;
pub use replicas::generate::Generate;
pub use replicas::replica::{Plan, Replica, ReplicaSettings};
pub use replicas::sizing::Sizing;
pub use vastrelay_engine::PAGE_TOKENS;
pub use vastrelay_fleet::cores::CoreRequest;
pub use vastrelay_kernels::Isa;
pub use vastrelay_kernels::attention::KvPrecision;
pub use vastrelay_weights::{Precision, Precisions};
