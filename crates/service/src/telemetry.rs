//! What the service tells about itself: metrics, history, live events, and webhooks.
//!
//! What is counted of a release belongs in `vastrelay_control::replicas`; the addresses that show it in [`manage`](crate::manage).

pub(crate) mod history;
pub mod live;
pub mod metrics;
pub(crate) mod webhook;
