//! The management API: `/manage`, one module for each thing that it is about.

pub mod change;
pub mod costs;
pub mod devices;
pub mod endpoints;
pub mod events;
pub mod fit;
pub mod history;
pub mod jobs;
pub mod keys;
pub mod load;
pub mod requests;
pub mod roots;
pub mod runs;
pub mod status;
pub mod steps;
