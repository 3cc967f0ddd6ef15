//! Who somebody is: keys, the service's own user on its management socket, and sessions of the console.
//!
//! What an address asks of its caller, and what a request shows, belongs in [`http::guard`](crate::http::guard).

pub mod keys;
pub mod operator;
pub(crate) mod redact;
pub(crate) mod sessions;
