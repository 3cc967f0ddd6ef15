//! Endpoints: what each is to be, and what is done about what happens to their replicas. Everything here is pure.
//!
//! | module | question it answers |
//! |---|---|
//! | [`decider`] | what is done about everything that happens to endpoints? |
//! | [`state`] | in which state is an endpoint? |
//! | [`dispatch`] | who goes to which replica next? |
//! | [`ledger`] | who holds how much of which device's memory? |
//! | [`cores`] | who holds how much of the processor's cores? |
//! | [`hang`] | does a worker that says nothing hang? |
//! | [`restart`] | when does a replica begin its next life? |
//! | [`survival`] | does a request that lost its worker go on? |
//! | [`spec`] | what does an endpoint's file say? |
//! | [`settings`] | how is a model to be run, as far as somebody has said? |
//! | [`profile`] | with which spec does one begin? |
//! | [`difference`] | what is different between two specs? |
//! | [`answering`] | how are calls to be answered? |
//! | [`upkeep`] | when is an endpoint parked or stopped without anybody doing it? |
#![warn(missing_docs)]

pub mod answering;
mod core_share;
pub mod cores;
pub mod decider;
pub mod difference;
pub mod dispatch;
pub mod hang;
pub mod ledger;
pub mod profile;
pub mod restart;
pub mod settings;
pub mod spec;
pub mod state;
pub mod survival;
pub mod upkeep;

pub use answering::{Answering, Mode};
pub use core_share::CoreShare;
pub use settings::Settings;
pub use spec::{Spec, SpecError, SpecPosition};
pub use state::State;
pub use upkeep::Upkeep;
