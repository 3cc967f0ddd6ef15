//! The run of the service from its start to its end, and the loops that run beside its calls.
//!
//! What the loops do belongs in [`server::background`](crate::server).

pub mod loops;
pub mod run;
