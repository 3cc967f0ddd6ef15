//! Devices: their memory and cores, and the turns of processes on simulated ones.
//!
//! The ledger of what is held belongs in `vastrelay_fleet`, the speed of a device in [`measurement`](crate::measurement).

pub mod cores;
pub mod device;
pub mod registry;
pub mod turn;
