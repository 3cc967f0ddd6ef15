//! The control plane: the decider's shell, endpoints with their replicas, placement, builds, jobs, leases and events. No HTTP.
//!
//! | module | question it answers |
//! |---|---|
//! | [`control`] | who decides what becomes of endpoints, and who carries it out? |
//! | [`endpoint`], [`endpoints`] | what can be called by name, and how does it stand? |
//! | [`endpoint_name`] | which names can endpoints have? |
//! | [`order`] | what is an endpoint to be, and who wants that? |
//! | [`loader`], [`ways`] | with what, on which devices and with which settings is it served? |
//! | `check` | how would it be served? |
//! | `made_of` | what tells it from others? |
//! | `manner` | how are its calls answered? |
//! | [`sight`] | which endpoints does a caller know of? |
//! | [`crew`], [`mod@line`] | which replicas answer its calls, and who is next? |
//! | [`lease`], `leases` | who uses them? |
//! | [`placed`], [`standing`], [`recent`] | how does a replica stand, and what was it like? |
//! | `workers`, `ending`, `patience` | how does a worker process begin, and how does it end? |
//! | `cold_start`, `worker_log` | how long do its starts take, and what has it said? |
//! | [`builds`] | is a model converted, and if not, who does that? |
//! | [`jobs`] | what is under way? |
//! | `room` | who holds memory and cores? |
//! | [`event_log`] | what happened to an endpoint? |
//! | [`counted`], `gaps` | what is counted of a release? |
#![warn(missing_docs)]

pub mod builds;
mod check;
mod cold_start;
pub mod control;
pub mod counted;
pub mod crew;
mod ending;
pub mod endpoint;
pub mod endpoint_name;
pub mod endpoints;
pub mod event_log;
mod gaps;
pub mod jobs;
pub mod lease;
mod leases;
pub mod line;
pub mod loader;
mod made_of;
mod manner;
pub mod order;
mod patience;
pub mod placed;
pub mod recent;
mod room;
pub mod sight;
pub mod standing;
pub mod ways;
mod worker_log;
mod workers;

pub use control::Control;
pub use loader::Loader;
pub use workers::{Workers, WorkersError};
