//! The HTTP service.
//!
//! | room | what it has |
//! |---|---|
//! | [`server`] | listening, the table of addresses, the loops, and how the service ends |
//! | [`openai`] | requests on the OpenAI wire, and answers that survive their worker |
//! | [`text`] | what a model would get, and how long it is |
//! | [`manage`] | the management API, a file for each resource |
//! | [`http`] | what all addresses share: connections, guard, bodies, problems, state |
//! | [`telemetry`] | metrics, history, live events, webhooks |
//! | [`access`] | keys, the management socket, sessions |
//! | [`lifecycle`] | the run of the service, and its loops |
#![warn(missing_docs)]

pub mod access;
pub mod http;
pub mod lifecycle;
pub mod manage;
pub mod openai;
pub mod server;
pub mod telemetry;
pub mod text;

pub use http::guard::Reach;
pub use http::state::{ServiceState, StateOptions};
pub use server::routes::document;
pub use server::{ServeError, ServeOptions, Server};
