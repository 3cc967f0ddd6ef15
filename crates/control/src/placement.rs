//! Where replicas may run: devices and their settings, model files that a caller may name, and room that is held.
//!
//! Which place a replica gets is a decision of `vastrelay_fleet::decider`; this room prepares what it needs to know.

pub mod loader;
pub mod options;
pub mod room;
