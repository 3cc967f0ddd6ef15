//! Endpoints: what each is to be.
//!
//! | module | question it answers |
//! |---|---|
//! | [`spec`] | what does an endpoint's file say? |
//! | [`settings`] | how is a model to be run, as far as somebody has said? |
#![warn(missing_docs)]

pub mod settings;
pub mod spec;

pub use settings::Settings;
pub use spec::{Place, Spec, SpecError};
