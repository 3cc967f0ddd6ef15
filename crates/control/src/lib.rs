//! The control plane. No HTTP.
//!
//! | room | what it has |
//! |---|---|
//! | [`control_loop`] | the thread that lets the decider decide, and what carries its actions out |
//! | [`endpoints`] | what can be called by name |
//! | [`deployments`] | requests, answer settings and fingerprints of endpoints |
//! | [`placement`] | devices, settings and files with which replicas are placed |
//! | [`replicas`] | replicas and their workers |
//! | [`builds`] | models that were converted |
//! | [`jobs`] | what is under way |
//! | [`events`] | what happened to endpoints |
#![warn(missing_docs)]

pub mod builds;
pub mod control_loop;
pub mod deployments;
pub mod endpoints;
pub mod events;
pub mod jobs;
pub mod placement;
pub mod replicas;

pub use control_loop::Control;
pub use placement::loader::Loader;
pub use replicas::workers::{Workers, WorkersError};
