//! Load tests, from the caller's side.
//!
//! | module | question it answers |
//! |---|---|
//! | [`workload`] | what is sent, how does it arrive, for how long? |
//! | [`order`] | what does somebody want sent, and can it be? |
//! | [`prompts`] | where do the prompts come from? |
//! | [`target`] | how is one request sent, and when did which token come? |
//! | [`runner`] | who sends what when? |
//! | [`mod@run`] | what is kept of a test, so that it can be repeated? |
//! | [`summary`] | what came out, and what limited it? |
//! | [`compare`] | which differences between two runs are real? |
//! | [`levels`] | how much throughput does each number of users give, and where is the knee? |
//! | [`report`] | how does a run look on paper? |
//! | [`statistics`] | percentiles, and intervals by resampling |
#![warn(missing_docs)]

pub mod compare;
mod earlier;
pub mod levels;
pub mod order;
pub mod prompts;
pub mod record;
pub mod report;
pub mod run;
pub mod runner;
mod service_use;
pub mod statistics;
pub mod summary;
pub mod target;
mod waiting;
pub mod workload;

pub use prompts::{Prompt, PromptError};
pub use record::{RequestRecord, Sample, Setup};
pub use run::Run;
pub use runner::{RunProgress, run};
pub use summary::Summary;
pub use target::{HttpTarget, Target};
pub use workload::{Arrival, Lengths, Span, Workload};
