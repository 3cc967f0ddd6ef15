//! The HTTP service.
//!
//! | module | question it answers |
//! |---|---|
//! | [`server`] | how does it listen, and how does it stop? |
//! | [`state`] | what do all handlers share? |
//! | `addresses` | what can be called, and by whom? |
//! | [`guard`] | who may call what? |
//! | `connection` | what if a caller does not read or send? |
//! | `text_threads` | where does long work on text go? |
//! | [`keys`] | how are keys made and checked? |
//! | [`operator`] | how does the service's own user manage it? |
//! | [`session`], `sessions` | how does a browser manage it? |
//! | [`openai`] | how are requests on the OpenAI wire answered? |
//! | [`text`] | what would a model get, and how long is it? |
//! | [`manage`] | how do things stand, and what was called? |
//! | `lasting` | how does an answer go on then? |
//! | [`fit`] | would it fit, and how fast would it be? |
//! | [`records`] | how is the database used? |
//! | `herald` | who is told when an endpoint is ready or has failed? |
//! | [`live`] | what happens right now? |
//! | [`metrics`] | what is counted for scrapers? |
//! | [`openapi`] | what can be called at all? |
//! | [`health`] | is it alive, and is it ready? |
//! | [`problem`] | how is an error said? |
//! | [`console`] | where do the console's files come from? |
#![warn(missing_docs)]

mod addresses;
mod background;
mod budget;
mod chronicle;
mod clock;
mod connection;
pub mod console;
mod costs;
mod departure;
pub mod fit;
pub mod guard;
pub mod health;
mod herald;
pub mod keys;
mod lasting;
pub mod life;
mod listed;
mod listen;
pub mod live;
mod loads;
pub mod loops;
pub mod manage;
pub mod metrics;
pub mod openai;
pub mod openapi;
pub mod operator;
mod own_address;
pub mod problem;
pub mod records;
mod redact;
mod request_name;
pub mod server;
pub mod session;
mod sessions;
pub mod state;
mod summary;
pub mod text;
mod text_threads;
mod tls;

pub use addresses::document;
pub use guard::Reach;
pub use server::{ServeError, ServeOptions, Server};
pub use state::{ServiceState, StateOptions};
