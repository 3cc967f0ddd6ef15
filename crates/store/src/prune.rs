//! Deletes old records, and the oldest where there are too many, a small part at a time between other writes.

use crate::{Retention, calls, events, history, milliseconds_since_1970, releases, runs};
use rusqlite::{Connection, TransactionBehavior};
use std::time::{Duration, Instant};

/// Longest part; the writer does other work between two.
const PART: Duration = Duration::from_millis(4);
/// Rows that one statement deletes.
const ROWS: usize = 16;
/// Records between two passes.
const RECORDS_BETWEEN: usize = 2_000;
/// Bytes of records between two passes.
const BYTES_BETWEEN: usize = 8 << 20;
/// Longest time between two passes, for a service without calls.
pub(crate) const LONGEST_BETWEEN: Duration = Duration::from_secs(600);

/// The stages of a pass, in their order: texts go before calls.
#[derive(Clone, Copy, Debug)]
enum Stage {
    OldEvents,
    OldCalls,
    OldHistory,
    OldIncarnations,
    Runs,
    Texts,
    Calls,
    FreePages,
}

const STAGES: [Stage; 8] = [
    Stage::OldEvents,
    Stage::OldCalls,
    Stage::OldHistory,
    Stage::OldIncarnations,
    Stage::Runs,
    Stage::Texts,
    Stage::Calls,
    Stage::FreePages,
];

/// Knows when a pass is due and how far it is.
pub(crate) struct Pruner {
    retention: Retention,
    /// The stage of the pass under way.
    stage: Option<usize>,
    records: usize,
    bytes: usize,
    last: Instant,
}

impl Pruner {
    /// Returns a pruner whose first pass is due at once, for records of an earlier service.
    pub fn new(retention: Retention) -> Pruner {
        Pruner {
            retention,
            stage: Some(0),
            records: 0,
            bytes: 0,
            last: Instant::now(),
        }
    }

    /// Counts records that were written.
    pub fn count(&mut self, records: usize, bytes: usize) {
        self.records += records;
        self.bytes += bytes;
    }

    /// Returns whether there is something to do now.
    pub fn is_due(&self) -> bool {
        let grown = self.records >= RECORDS_BETWEEN || self.bytes >= BYTES_BETWEEN;
        self.stage.is_some() || grown || self.last.elapsed() >= LONGEST_BETWEEN
    }

    /// Does a part; returns how many calls it deleted. A failed part ends the pass; the next pass starts at the first stage.
    ///
    /// # Errors
    /// SQLite's own; what the part deleted is there again.
    pub fn part(&mut self, connection: &mut Connection) -> rusqlite::Result<u64> {
        let stage = *self.stage.get_or_insert_default();
        if stage == 0 {
            (self.records, self.bytes, self.last) = (0, 0, Instant::now());
        }
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate);
        let done = transaction.and_then(|transaction| {
            let done = delete(&transaction, STAGES[stage], &self.retention)?;
            transaction.commit()?;
            Ok(done)
        });
        self.stage = match &done {
            Ok(done) if done.more => Some(stage),
            Ok(_) => Some(stage + 1).filter(|next| *next < STAGES.len()),
            Err(_) => None,
        };
        done.map(|done| done.calls)
    }
}

struct Done {
    /// Whether the stage has more to delete.
    more: bool,
    calls: u64,
}

fn delete(connection: &Connection, stage: Stage, retention: &Retention) -> rusqlite::Result<Done> {
    let began = Instant::now();
    let now = milliseconds_since_1970();
    let oldest = now - i64::try_from(retention.age.as_millis()).unwrap_or(i64::MAX);
    let mut calls = 0;
    loop {
        let rows = match stage {
            Stage::OldEvents => events::prune(connection, oldest, ROWS)?,
            Stage::OldCalls => calls::prune_old(connection, oldest, ROWS)?,
            Stage::OldHistory => history::prune_old(connection, now, ROWS)?,
            Stage::OldIncarnations => releases::prune_incarnations(connection, oldest, ROWS)?,
            Stage::Runs => runs::prune(connection, retention.run_bytes)?,
            Stage::Texts => calls::prune_texts(connection, retention.bytes, ROWS)?,
            Stage::Calls => calls::prune_large(connection, retention.bytes, ROWS)?,
            Stage::FreePages => give_back(connection)?,
        };
        if matches!(stage, Stage::OldCalls | Stage::Calls) {
            calls += rows as u64;
        }
        if rows == 0 || began.elapsed() >= PART {
            return Ok(Done { more: rows > 0, calls });
        }
    }
}

/// Gives some freed pages back to the file system; returns how many.
fn give_back(connection: &Connection) -> rusqlite::Result<usize> {
    let free = || connection.query_row("PRAGMA freelist_count", [], |row| row.get::<_, i64>(0));
    let before = free()?;
    let mut statement = connection.prepare_cached("PRAGMA incremental_vacuum(64)")?;
    let mut rows = statement.query([])?;
    while rows.next()?.is_some() {}
    Ok((before - free()?).max(0) as usize)
}
