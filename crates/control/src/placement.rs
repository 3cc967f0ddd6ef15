//! Placement: devices and their settings, the model files that a caller may name, and the memory and cores that are held.
//!
//! The decision about a place is made in `vastrelay_fleet::decider`; this room prepares its facts.

pub mod loader;
pub mod options;
pub mod room;
