//! Deployments: the request, the settings for answering calls, and the fingerprint that tells one release from another.
//!
//! Where it runs belongs in [`placement`](crate::placement), whether it is served in [`control_loop`](crate::control_loop).

pub(crate) mod answer_settings;
pub(crate) mod fingerprint;
pub mod request;
