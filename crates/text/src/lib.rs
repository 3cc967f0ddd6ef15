//! Between text and tokens.
//!
//! | module | question it answers |
//! |---|---|
//! | [`tokenizer`] | which tokens make up this text? |
//! | [`pieces`] | which bytes does a token stand for? |
//! | [`template`] | how does this model want a conversation written? |
//! | [`decoder`] | what text have these tokens added so far? |
//! | [`stop`] | has a stop string appeared, and what may be shown before we know? |
#![warn(missing_docs)]

pub mod decoder;
pub mod error;
pub mod pieces;
pub mod stop;
pub mod template;
pub mod tokenizer;

pub use decoder::IncrementalDecoder;
pub use error::TextError;
pub use pieces::TokenPieces;
pub use stop::StopMatcher;
pub use template::{ChatTemplate, Message};
pub use tokenizer::Tokenizer;
