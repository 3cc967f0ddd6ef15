//! The identities of callers: keys, the service's own user on its management socket, and sessions of the console.
//!
//! The check of a request against what its address asks belongs in [`http::guard`](crate::http::guard).

pub mod keys;
pub mod operator;
pub(crate) mod redact;
pub(crate) mod sessions;
