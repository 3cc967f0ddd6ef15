//! A replica in a process of its own.
//!
//! The service starts the process with a socket to listen at and connects to it. The first message says which version of the protocol
//! is spoken; then orders go one way and, for each step of the engine, one frame the other way. Whoever connects later, with the same
//! secret, takes the worker over as it is.
//!
//! | module | question it answers |
//! |---|---|
//! | [`protocol`] | which messages are there? |
//! | [`message`] | how does it become bytes? |
//! | `send_buffer` | how is it sent without waiting? |
//! | `event_sender` | what does a worker tell, and when? |
//! | `size` | how long do its news become as bytes? |
//! | [`mod@serve`] | what does a worker do? |
//! | [`client`] | how does a service talk to it? |

pub mod client;
mod event_sender;
pub mod message;
pub mod protocol;
mod send_buffer;
pub mod serve;
mod size;

/// The exit code of a worker that has reported why it cannot continue.
pub const FAILED: i32 = 70;

pub use client::{Connection, WorkerEngine};
pub use protocol::{Secret, WorkerConfig};
pub use serve::serve;
