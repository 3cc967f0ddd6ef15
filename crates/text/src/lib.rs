//! Between text and tokens.
//!
//! | module | question it answers |
//! |---|---|
//! | [`tokenizer`] | which tokens make up this text? |
//! | [`pieces`] | which bytes does a token stand for? |
//! | [`template`] | how does this model want a conversation written? |
//! | [`template_process`] | what if that takes too much time or memory? |
//! | [`decoder`] | what text have these tokens added so far? |
//! | [`stop`] | has a stop string appeared, and what may be shown before we know? |
#![warn(missing_docs)]

pub mod decoder;
pub mod error;
mod growth;
pub mod pieces;
pub mod stop;
pub mod template;
pub mod template_process;
pub mod tokenizer;

pub use decoder::IncrementalDecoder;
pub use error::TextError;
pub use pieces::TokenPieces;
pub use stop::{StopMatcher, StopStrings};
pub use template::{ChatTemplate, Message, TemplateParts};
pub use template_process::TemplateProcess;
pub use tokenizer::Tokenizer;
