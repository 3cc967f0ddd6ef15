//! The data plane: sequences in, tokens out, batched continuously over paged KV memory.
//!
//! | module | question it answers |
//! |---|---|
//! | [`scheduler`] | who takes part in the next step, and with how many tokens? (pure) |
//! | [`queue`] | who waits, and in which order? (pure) |
//! | [`pages`] | which pages of KV memory are whose, and what may be reused? (pure) |
//! | [`executor`] | what does a device do for us? (the seam) |
//! | [`cpu`] | the device at hand: real arithmetic on this machine's cores |
//! | [`simulated`] | a stand-in for accelerators that are not here |
//! | [`sampling`] | which token, of those the model thinks likely? |
//! | [`head`] | what text has one sequence made, and is it at its end? |
//! | [`engine`] | the loop that ties them together |
//! | [`record`] | what happened in each step? |
#![warn(missing_docs)]

pub mod cpu;
pub mod engine;
pub mod executor;
pub mod head;
pub mod likelihood;
pub mod micros;
pub mod pages;
pub mod phases;
pub mod queue;
pub mod record;
pub mod request;
pub mod sampling;
pub mod scheduler;
pub mod simulated;
pub mod tables;
pub mod token;

pub use cpu::CpuExecutor;
pub use engine::core::EngineCore;
pub use engine::edge::{Edge, RequestStream};
pub use engine::frame::EngineStatus;
pub use engine::{Engine, RunningEngine};
pub use executor::{Executor, MemoryReport};
pub use request::{EndReason, Event, GenerationRequest, Refusal, RequestMetrics};
pub use sampling::Sampling;
pub use scheduler::{Limits, PoolLimits, Scheduler};
pub use simulated::SimulatedExecutor;
pub use vastrelay_kernels::attention::PAGE_TOKENS;
