//! Endpoints: their names, the callers who see them, and the leases of those who use them.
//!
//! Its desired state belongs in [`deployments`](crate::deployments), its workers in [`replicas`](crate::replicas).

pub mod endpoint;
pub mod lease;
pub mod name;
pub mod registry;
pub mod visibility;
