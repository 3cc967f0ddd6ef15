//! Replicas and their workers: the queue before them, how a worker ends, and its measurements and counts.
//!
//! The start and the end of a worker are decided in `vastrelay_fleet::decider` and carried out in [`control_loop`](crate::control_loop).

pub(crate) mod cold_start;
pub mod counters;
pub(crate) mod deadline;
mod gaps;
pub(crate) mod leases;
pub mod measured;
pub mod members;
pub mod queue;
pub mod recent;
pub mod state;
pub(crate) mod termination;
pub(crate) mod worker_log;
pub(crate) mod workers;
