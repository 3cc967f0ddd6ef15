//! What can be called by name: endpoints, who sees them, and the leases of those who use them.
//!
//! What an endpoint is to be belongs in [`deployments`](crate::deployments), what runs for it in [`replicas`](crate::replicas).

pub mod endpoint;
pub mod lease;
pub mod name;
pub mod registry;
pub mod visibility;
