//! Replicas and their workers: who answers, who is next, how a worker ends, and what is measured and counted of it.
//!
//! Who decides that a worker starts or ends belongs in [`control_loop`](crate::control_loop), where its memory is in
//! [`placement`](crate::placement).

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
