//! Models: their text side, the origin of their weights, builds, and the quality that a precision costs.
//!
//! The replica that runs one belongs in [`replicas`](crate::replicas).

pub mod build;
pub mod model;
pub mod origin;
pub mod quality;
