//! The run of the service from its start to its end, and the loops that run beside its calls.
//!
//! The work of the loops belongs in [`server::background`](crate::server).

pub mod loops;
pub mod run;
