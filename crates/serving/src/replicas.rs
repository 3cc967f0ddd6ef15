//! Replicas: their settings, their size before they have a place, their assignment, and the seam through which calls reach them.
//!
//! Their process belongs in [`worker`](crate::worker).

pub mod assignment;
pub mod generate;
pub mod replica;
pub mod sizing;
pub mod start_phase;
pub(crate) mod touch;
