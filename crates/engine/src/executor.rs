//! The seam to a device.

use crate::phases::PhaseTimes;
use crate::sampling::{Choice, Chosen};
use crate::token::{TokenLogprobs, Tokens};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;
use std::sync::{Arc, mpsc};
use std::time::Duration;

/// Something that runs steps of one build: a processor, an accelerator, or a stand-in for one.
///
/// The executor owns weights and KV memory. Only page numbers and tokens cross: no keys, no values, and whole rows of logits
/// on request only.
pub trait Executor: Send {
    /// Returns what it took of the device's memory.
    fn memory(&self) -> MemoryReport;

    /// Returns how many tokens its model knows.
    fn vocabulary(&self) -> usize;

    /// Starts a step and returns at once; `report` is called when it has ended, from any thread. The batch's page copies happen before
    /// its rows. The batch is given up before it is reported, so that its memory serves the next one.
    ///
    /// # Errors
    /// When the device cannot run it, or the step before has not ended; nothing is reported then.
    fn submit(&mut self, batch: Arc<StepBatch>, report: &Report) -> Result<(), ExecutorError>;
}

/// What hears of the end of a step. After a step that failed, the executor is of no further use.
pub type Report = Arc<dyn Fn(Result<StepResult, ExecutorError>) + Send + Sync>;

/// Runs a step and waits for its end.
///
/// # Errors
/// When it fails.
pub fn run_step(executor: &mut dyn Executor, batch: StepBatch) -> Result<StepResult, ExecutorError> {
    wait_for(|report| executor.submit(Arc::new(batch), report))
}

/// Begins something that ends with a report, and waits for that.
pub(crate) fn wait_for(begin: impl FnOnce(&Report) -> Result<(), ExecutorError>) -> Result<StepResult, ExecutorError> {
    let (report, ended) = mpsc::sync_channel(1);
    let report: Report = Arc::new(move |result| drop(report.send(result)));
    begin(&report)?;
    drop(report);
    let result = ended.recv();
    result.unwrap_or_else(|_| Err(ExecutorError("it has gone without a word".into())))
}

/// A device failed, in words.
#[derive(Clone, Debug, thiserror::Error)]
#[error("the device failed: {0}")]
pub struct ExecutorError(pub String);

/// One step for a device.
#[derive(Clone, Debug, Default)]
pub struct StepBatch {
    /// Pages to copy first.
    pub copies: Vec<PageCopy>,
    /// What to compute.
    pub rows: Vec<BatchRow>,
}

/// A page to copy over another one of the same pool.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PageCopy {
    /// Which pool.
    pub pool: usize,
    /// The page that is copied.
    pub from: u32,
    /// The page that is written.
    pub to: u32,
}

/// One sequence's part in a step.
#[derive(Clone, Debug)]
pub struct BatchRow {
    /// Tokens to process.
    pub tokens: Tokens,
    /// How many of them, at the end, are drafts: guesses that have to be verified.
    pub drafts: usize,
    /// The position of the first.
    pub start: usize,
    /// Where the sequence's page tables are kept from step to step; each row has a slot of its own.
    pub slot: usize,
    /// How the tables of the slot change before the row, one for each pool; nothing where none of them does.
    pub tables: TableChanges,
    /// The tables as they are then, where they are to be compared: in debug builds.
    pub whole: Option<Vec<Vec<u32>>>,
    /// What is wanted back of its end.
    pub want: Want,
    /// How likely its tokens were, where that is wanted.
    pub logprobs: Option<LogprobsWanted>,
}

/// Changes of a sequence's page tables: few, mostly, which then need no memory of their own.
pub type TableChanges = SmallVec<[TableChange; 2]>;

/// How the page table of a sequence in one pool changes: pages in order of position.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableChange {
    /// How many of its first pages stay.
    pub keep: usize,
    /// Those that follow them.
    pub pages: SmallVec<[u32; 4]>,
}

impl TableChange {
    /// Returns the change that makes tables what is given, whatever they were.
    pub fn all(tables: impl IntoIterator<Item = Vec<u32>>) -> TableChanges {
        let change = |pages: Vec<u32>| TableChange {
            keep: 0,
            pages: pages.into(),
        };
        tables.into_iter().map(change).collect()
    }
}

/// Asks how likely tokens were, each after those before it: the row's, the first excepted.
#[derive(Clone, Debug)]
pub struct LogprobsWanted {
    /// The token after the row's last, where that one's log-probability is wanted too.
    pub next: Option<u32>,
    /// Most probable tokens in each one's place to report.
    pub top: usize,
}

/// What a row wants back.
#[derive(Clone, Debug)]
pub enum Want {
    /// Nothing: a part of a prompt.
    Nothing,
    /// A token after its last one, and the verification of its drafts.
    Token(Choice),
    /// The logits of its last token: for comparisons, as they are large.
    Logits,
}

/// What a step brought.
#[derive(Clone, Debug, Default)]
pub struct StepResult {
    /// One for each row, in order.
    pub rows: Vec<RowResult>,
    /// How long the device took for it.
    pub took: Duration,
    /// Where its time went.
    pub phases: PhaseTimes,
}

/// What a row brought.
#[derive(Clone, Debug, Default)]
pub struct RowResult {
    /// New tokens: the accepted drafts and the one after them.
    pub chosen: SmallVec<[Chosen; 1]>,
    /// The logits, when they were wanted.
    pub logits: Vec<f32>,
    /// The logprobs of its tokens but the first, and of the one after them, as they were wanted.
    pub logprobs: Vec<TokenLogprobs>,
    /// Whether the logits held something that is not a number, so that no token could be chosen.
    pub not_finite: bool,
}

/// What an executor took of its device's memory, in bytes. There is a pool of pages for all layers that see equally far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct MemoryReport {
    /// Packed weights.
    pub weights: usize,
    /// The KV pools.
    pub kv_pool: usize,
    /// How many pools there are: as many lists of pages has each row.
    pub pools: usize,
    /// One page in all layers.
    pub page: usize,
    /// Activations of the largest step, and tables.
    pub workspace: usize,
}
