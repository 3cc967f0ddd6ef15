//! The parts that all addresses share: connections, the guard before them, bodies and their budgets, problems, and the state that handlers take.
//!
//! No address is answered here: those of models are in [`openai`](crate::openai) and [`text`](crate::text), those that manage in
//! [`manage`](crate::manage). Listening and the table of addresses belong in [`server`](crate::server).

pub(crate) mod blocking;
pub(crate) mod budget;
pub(crate) mod connection;
pub(crate) mod declared;
pub(crate) mod departure;
pub mod guard;
pub(crate) mod load_tests;
pub(crate) mod own_address;
pub mod problem;
pub(crate) mod recorded;
pub mod records;
pub(crate) mod session_secrets;
pub mod state;
pub(crate) mod text_threads;
