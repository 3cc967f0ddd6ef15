//! Telemetry: metrics, history, live events, and webhooks.
//!
//! The counts of a release belong in `vastrelay_control::replicas`, the addresses that show them in [`manage`](crate::manage).

mod device_metrics;
pub(crate) mod devices;
pub(crate) mod history;
pub mod live;
pub mod metrics;
pub(crate) mod webhook;
