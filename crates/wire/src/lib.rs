//! What goes over the wire, as types.
//!
//! | module | what it holds |
//! |---|---|
//! | [`chat`] | `POST /v1/chat/completions` |
//! | [`completion`] | `POST /v1/completions` |
//! | [`sampling`] | the fields that both share |
//! | [`models`] | `GET /v1/models` |
//! | [`error`] | the error envelope |
//! | [`manage`] | our own management API |
//! | [`keys`] | keys of callers |
//! | [`load`] | load tests that the service runs itself |
//! | [`text`] | text and tokens without an answer |
//! | [`fields`] | fields that a request does not have |
//! | [`light`] | values of which little is kept |
//! | [`parse`] | JSON bodies, with errors that say where |
#![warn(missing_docs)]

pub mod chat;
pub mod completion;
pub mod error;
pub mod fields;
pub mod keys;
pub mod light;
pub mod load;
pub mod manage;
pub mod models;
pub mod parse;
pub mod sampling;
pub mod text;
pub mod time;
