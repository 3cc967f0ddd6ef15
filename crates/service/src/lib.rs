//! The HTTP service.
//!
//! | module | question it answers |
//! |---|---|
//! | [`server`] | how does it listen, and how does it stop? |
//! | [`state`] | what do all handlers share? |
//! | [`openai`] | how are requests on the OpenAI wire answered? |
//! | [`manage`] | how do things stand? |
//! | [`health`] | is it alive, and is it ready? |
//! | [`problem`] | how is an error said? |
//! | [`console`] | where do the console's files come from? |
#![warn(missing_docs)]

pub mod console;
mod departure;
pub mod health;
pub mod manage;
pub mod openai;
pub mod problem;
pub mod server;
pub mod state;

pub use server::{ServeError, Server};
pub use state::ServiceState;
