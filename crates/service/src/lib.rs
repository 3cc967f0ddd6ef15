//! The HTTP service.
//!
//! | module | question it answers |
//! |---|---|
//! | [`server`] | how does it listen, and how does it stop? |
//! | [`state`] | what do all handlers share? |
//! | `addresses` | what can be called, and by whom? |
//! | [`guard`] | who may call what? |
//! | `connection` | what if a caller does not read or send? |
//! | `text_pool` | where does long work on text go? |
//! | [`keys`] | how are keys made and checked? |
//! | [`openai`] | how are requests on the OpenAI wire answered? |
//! | [`text`] | what would a model get, and how long is it? |
//! | [`manage`] | how do things stand, and what was called? |
//! | [`models`] | how does a model begin to be served? |
//! | [`load`] | how does the service send load to itself? |
//! | [`live`] | what happens right now? |
//! | [`metrics`] | what is counted for scrapers? |
//! | [`openapi`] | what can be called at all? |
//! | [`health`] | is it alive, and is it ready? |
//! | [`problem`] | how is an error said? |
//! | [`console`] | where do the console's files come from? |
#![warn(missing_docs)]

mod addresses;
mod budget;
mod chronicle;
mod connection;
pub mod console;
mod departure;
pub mod guard;
pub mod health;
pub mod keys;
mod listed;
mod listen;
pub mod live;
pub mod load;
pub mod loader;
mod loads;
pub mod manage;
pub mod metrics;
pub mod models;
pub mod openai;
pub mod openapi;
mod own_address;
pub mod problem;
mod recent;
mod redact;
mod request_name;
mod served;
pub mod server;
pub mod state;
pub mod text;
mod text_pool;
mod tls;

pub use addresses::document;
pub use guard::Reach;
pub use loader::Loader;
pub use server::{ServeError, ServeOptions, Server};
pub use state::{ServiceState, StateOptions};
pub use text_pool::TemplateProgram;
