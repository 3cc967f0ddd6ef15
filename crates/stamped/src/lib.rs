//! TCP connections that know when their bytes arrived and left.
//!
//! A program that measures itself counts from the moment at which it looks: what lies in a socket while it is busy, or while
//! its thread is being woken, is waiting that no clock of its own sees. The system notes when a packet arrived; here this note
//! comes along with the bytes, so that a service sees what its callers see, and a load generator measures the service and not
//! itself.
#![warn(missing_docs)]

mod clock;
mod receive;
mod stamps;
mod stream;

pub use receive::{Receiver, stamp_arrivals};
pub use stamps::Stamps;
pub use stream::Stamped;
