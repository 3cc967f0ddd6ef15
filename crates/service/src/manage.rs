//! The management API: `/manage`, a file for each resource.
//!
//! The check of callers belongs in [`http::guard`](crate::http::guard), the changes themselves in `vastrelay_control`.

pub mod capacity;
pub mod change;
pub mod costs;
pub mod deploy;
pub mod devices;
pub mod endpoint_changes;
pub mod endpoints;
pub mod events;
pub mod fit;
pub mod fitting;
pub mod history;
pub mod jobs;
pub mod keys;
pub mod live;
pub mod load;
pub mod requests;
pub mod roots;
pub mod runs;
pub mod session;
mod setting_choices;
mod setting_costs;
pub mod status;
pub mod steps;
