//! The thread that writes: changes first, then records in short batches, then a part of the deletions that are due.

use crate::checkpoint::Checkpointer;
use crate::prune::{LONGEST_BETWEEN, Pruner};
use crate::queue::{Change, Queue, Record, Work};
use crate::{Retention, calls, events, history, keys, open_calls, releases, starts};
use rusqlite::{Connection, ErrorCode, TransactionBehavior};
use std::collections::{HashSet, VecDeque};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Longest time that a batch inserts records before it is committed.
const LONGEST_BATCH: Duration = Duration::from_millis(4);
/// Longest wait of a batch, or of a part that is deleted, for a lock of another process.
const BATCH_WAIT: Duration = Duration::from_millis(10);
/// Longest wait of a change for a lock of another process, and for its turn.
const CHANGE_WAIT: Duration = Duration::from_secs(5);
/// Longest wait for a lock of another process where the service ends.
const LAST_WAIT: Duration = Duration::from_secs(5);
/// Longest wait for records to be written.
const FLUSH_WAIT: Duration = Duration::from_secs(3);
/// Time between two looks at whether the write-ahead log may grow again.
const HOLD_LOOK: Duration = Duration::from_millis(1);
/// Commits between two moves of the write-ahead log into the database.
const COMMITS_BETWEEN: usize = 64;
/// Bytes of records between two such moves.
const BYTES_BETWEEN: usize = 2 << 20;

pub(crate) struct Writer {
    queue: Arc<Queue>,
    thread: Option<JoinHandle<()>>,
    counts: Arc<Counts>,
}

/// Figures that are read without asking the writer.
#[derive(Default)]
pub(crate) struct Counts {
    /// Calls in the database, as of the last commit: counting them would take longer with each.
    pub calls: AtomicU64,
    /// Records that were lost: there was no room, or the database refused them.
    pub lost: AtomicU64,
}

/// Counts records that are lost: there was no room for them, or the database refused them.
#[derive(Clone)]
pub struct LostRecords(pub(crate) Arc<Counts>);

impl LostRecords {
    /// Returns how many were lost since the start.
    pub fn count(&self) -> u64 {
        self.0.lost.load(Ordering::Acquire)
    }
}

/// Why a change was not made.
pub(crate) enum Unmade {
    /// Its turn did not come in time.
    Busy,
    /// SQLite's reason.
    Failed(rusqlite::Error),
    /// It panicked, or the writer has ended.
    Lost,
}

impl Writer {
    /// Starts the writer; without a retention it deletes nothing.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start(
        connection: Connection,
        checkpointer: Option<Checkpointer>,
        retention: Option<Retention>,
        calls: u64,
    ) -> std::io::Result<Writer> {
        let (queue, counts) = (Arc::new(Queue::default()), Arc::new(Counts::default()));
        counts.calls.store(calls, Ordering::Release);
        let run = Run {
            connection,
            checkpointer,
            queue: queue.clone(),
            counts: counts.clone(),
            pruner: retention.map(Pruner::new),
            batch: VecDeque::new(),
            told_of_lock: false,
            commits: 0,
            bytes: 0,
        };
        let thread = std::thread::Builder::new()
            .name("store".into())
            .spawn(move || run.run())?;
        Ok(Writer {
            queue,
            thread: Some(thread),
            counts,
        })
    }

    /// Hands over a record without waiting; where there is no room it is lost and counted.
    pub fn record(&self, record: Record) {
        if !self.queue.record(record) {
            self.counts.lost.fetch_add(1, Ordering::AcqRel);
        }
    }

    /// Makes a change in one transaction, before all waiting records; returns when it is committed.
    pub fn change<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, Unmade> {
        let (deliver, delivered) = sync_channel(1);
        let change: Change = Box::new(move |connection| {
            let _ = connection.busy_timeout(CHANGE_WAIT);
            let _ = deliver.send(in_transaction(connection, work));
        });
        let ticket = self.queue.change(change);
        let made = match delivered.recv_timeout(CHANGE_WAIT) {
            Err(RecvTimeoutError::Timeout) if self.queue.withdraw(ticket) => return Err(Unmade::Busy),
            // It is under way, so that its end is worth waiting for.
            Err(RecvTimeoutError::Timeout) => delivered.recv().map_err(|_| Unmade::Lost)?,
            Err(RecvTimeoutError::Disconnected) => return Err(Unmade::Lost),
            Ok(made) => made,
        };
        made.map_err(Unmade::Failed)
    }

    /// Waits until the records of before are written, but no longer than some seconds.
    pub fn flush(&self) {
        let (done, wait) = channel();
        if self.queue.record(Record::Flush(done)) {
            let _ = wait.recv_timeout(FLUSH_WAIT);
        }
    }

    pub fn counts(&self) -> &Arc<Counts> {
        &self.counts
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.queue.end();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn in_transaction<T>(
    connection: &mut Connection,
    work: impl FnOnce(&Connection) -> rusqlite::Result<T>,
) -> rusqlite::Result<T> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let done = work(&transaction)?;
    transaction.commit()?;
    Ok(done)
}

/// The writer's thread.
struct Run {
    connection: Connection,
    checkpointer: Option<Checkpointer>,
    queue: Arc<Queue>,
    counts: Arc<Counts>,
    pruner: Option<Pruner>,
    /// Records that have left the queue and are not committed yet.
    batch: VecDeque<Record>,
    /// Whether the log says already that another process holds the database.
    told_of_lock: bool,
    /// Commits and bytes since the write-ahead log was last moved.
    commits: usize,
    bytes: usize,
}

impl Run {
    fn run(mut self) {
        let _refuse = RefuseAtEnd(self.queue.clone());
        loop {
            self.wait_for_log();
            let pruning = self.pruner.as_ref().is_some_and(Pruner::is_due) && !self.queue.has_ended();
            let longest_wait = match pruning {
                true => Some(Duration::ZERO),
                false => self.pruner.as_ref().map(|_| LONGEST_BETWEEN),
            };
            match self.queue.next(&mut self.batch, longest_wait) {
                Work::Change(change) => self.change(change),
                Work::Records => self.guarded(|run| {
                    run.write_batch();
                    run.prune(pruning);
                }),
                Work::Nothing => self.guarded(|run| run.prune(pruning)),
                Work::End => return,
            }
        }
    }

    /// Makes changes only, until the write-ahead log may grow again.
    fn wait_for_log(&mut self) {
        let holds = |run: &Run| run.checkpointer.as_ref().is_some_and(Checkpointer::holds_records);
        while holds(self) && !self.queue.has_ended() {
            match self.queue.next_change() {
                Some(change) => self.change(change),
                None => self.queue.wait_for_change(HOLD_LOOK),
            }
        }
    }

    /// Runs work whose panic costs the records of the batch, and nothing else.
    fn guarded(&mut self, work: impl FnOnce(&mut Run)) {
        if catch_unwind(AssertUnwindSafe(|| work(self))).is_err() {
            let lost = self.batch.len();
            tracing::error!(lost, "the writer of the database panicked; records are lost");
            self.counts.lost.fetch_add(lost as u64, Ordering::AcqRel);
            self.leave_batch(lost);
        }
    }

    fn change(&mut self, change: Change) {
        // Its caller learns of a panic, as the result is never delivered.
        let made = catch_unwind(AssertUnwindSafe(|| change(&mut self.connection)));
        if made.is_err() {
            tracing::error!("a change of the database panicked and was not made");
        }
        self.committed(0);
    }

    /// Commits as many records of the batch as a short transaction takes; while another process holds the database, records stay in the batch.
    fn write_batch(&mut self) {
        if self.batch.iter().all(|record| matches!(record, Record::Flush(_))) {
            // There is nothing to write.
            return self.leave_batch(self.batch.len());
        }
        let ending = self.queue.has_ended();
        let longest_wait = if ending { LAST_WAIT } else { BATCH_WAIT };
        let _ = self.connection.busy_timeout(longest_wait);
        match write(&mut self.connection, &self.batch) {
            Ok(written) => {
                self.told_of_lock = false;
                self.counts.lost.fetch_add(written.refused, Ordering::AcqRel);
                self.counts.calls.fetch_add(written.calls, Ordering::AcqRel);
                if let Some(pruner) = &mut self.pruner {
                    pruner.count(written.records, written.bytes);
                }
                self.leave_batch(written.records);
                self.committed(written.bytes);
            }
            Err(error) if is_busy(&error) && !ending => {
                if !std::mem::replace(&mut self.told_of_lock, true) {
                    tracing::warn!("the database is locked by another process; records wait");
                }
            }
            Err(error) => {
                let lost = self.batch.len();
                tracing::error!(%error, lost, "records could not be written");
                self.counts.lost.fetch_add(lost as u64, Ordering::AcqRel);
                self.leave_batch(lost);
            }
        }
    }

    /// Takes records out of the batch and tells those who wait for what stood before them.
    fn leave_batch(&mut self, records: usize) {
        for record in self.batch.drain(..records) {
            if let Record::Flush(done) = record {
                let _ = done.send(());
            }
        }
    }

    fn prune(&mut self, due: bool) {
        let Some(pruner) = self.pruner.as_mut().filter(|_| due) else {
            return;
        };
        let _ = self.connection.busy_timeout(BATCH_WAIT);
        match pruner.part(&mut self.connection) {
            Ok(calls) => drop(self.counts.calls.fetch_sub(calls, Ordering::AcqRel)),
            Err(error) => tracing::error!(%error, "old records could not be deleted; nothing else was lost"),
        }
        self.committed(0);
    }

    fn committed(&mut self, bytes: usize) {
        self.commits += 1;
        self.bytes += bytes;
        if self.commits >= COMMITS_BETWEEN || self.bytes >= BYTES_BETWEEN {
            (self.commits, self.bytes) = (0, 0);
            let _ = self.checkpointer.as_ref().map(Checkpointer::wake);
        }
    }
}

/// Gives waiting callers of changes an error when the writer's thread ends, also by a panic.
struct RefuseAtEnd(Arc<Queue>);

impl Drop for RefuseAtEnd {
    fn drop(&mut self) {
        self.0.refuse_changes();
    }
}

/// Whether another process holds the database.
pub(crate) fn is_busy(error: &rusqlite::Error) -> bool {
    matches!(
        error.sqlite_error_code(),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)
    )
}

/// The result of a batch.
#[derive(Default)]
struct Written {
    /// Records that are done with, from the front.
    records: usize,
    bytes: usize,
    calls: u64,
    /// Records that the database refused, each for itself.
    refused: u64,
}

/// Commits records from the front, for as long as a batch may take; at least one.
fn write(connection: &mut Connection, batch: &VecDeque<Record>) -> rusqlite::Result<Written> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let began = Instant::now();
    let mut written = Written::default();
    // Most calls end before they are noted as begun; those need no row of `begun`.
    let ended: HashSet<&str> = batch.iter().filter_map(ended).collect();
    for record in batch {
        let done = match record {
            Record::Begun(call) if ended.contains(call.id.as_str()) => Ok(()),
            record => insert(&transaction, record),
        };
        written.records += 1;
        written.bytes += record.bytes();
        match done {
            Ok(()) => written.calls += u64::from(matches!(record, Record::Call(_))),
            Err(error) => {
                tracing::error!(%error, "a record could not be written");
                written.refused += 1;
            }
        }
        if began.elapsed() >= LONGEST_BATCH {
            break;
        }
    }
    transaction.commit()?;
    Ok(written)
}

fn insert(connection: &Connection, record: &Record) -> rusqlite::Result<()> {
    match record {
        Record::Begun(call) => open_calls::insert(connection, call),
        Record::Call(call) => open_calls::end(connection, &call.id).and_then(|()| calls::insert(connection, call)),
        Record::KeyUsed { id, at_ms } => keys::touch(connection, id, *at_ms),
        Record::History(point) => history::insert(connection, point),
        Record::Event(event) => events::insert(connection, event),
        Record::Incarnation(incarnation) => releases::insert_incarnation(connection, incarnation),
        Record::Start(start) => starts::keep(connection, start),
        Record::Flush(_) => Ok(()),
    }
}

/// Returns the call that a record ends.
fn ended(record: &Record) -> Option<&str> {
    match record {
        Record::Call(call) => Some(&call.id),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calls::{CallRecord, CallText};

    fn database(folder: &std::path::Path) -> Connection {
        let mut connection = crate::database::connect(&folder.join("vastrelay.sqlite")).unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        connection
    }

    fn call(id: usize, text: usize) -> Record {
        Record::Call(Box::new(CallRecord {
            id: id.to_string(),
            text: Some(CallText {
                prompt: "x".repeat(text),
                answer: String::new(),
            }),
            ..CallRecord::default()
        }))
    }

    #[test]
    fn a_change_goes_before_records_that_came_earlier() {
        let folder = tempfile::tempdir().unwrap();
        let writer = Writer::start(database(folder.path()), None, None, 0).unwrap();
        let (go_on, stay) = channel::<()>();
        writer.queue.change(Box::new(move |_| stay.recv().unwrap()));
        (0..10_000).for_each(|id| writer.record(call(id, 10)));
        let (deliver, counted) = channel();
        writer.queue.change(Box::new(move |connection| {
            deliver.send(calls::count(connection).unwrap()).unwrap();
        }));
        go_on.send(()).unwrap();
        assert_eq!(counted.recv().unwrap(), 0);
        drop(writer);
        assert_eq!(calls::count(&database(folder.path())).unwrap(), 10_000);
    }

    #[test]
    fn a_batch_of_large_records_takes_several_transactions() {
        let folder = tempfile::tempdir().unwrap();
        let batch: VecDeque<Record> = (0..64).map(|id| call(id, 2 << 20)).collect();
        let written = write(&mut database(folder.path()), &batch).unwrap();
        assert!((1..64).contains(&written.records), "{}", written.records);
        assert_eq!(written.calls, written.records as u64);
    }

    #[test]
    fn a_change_whose_turn_does_not_come_is_withdrawn() {
        let folder = tempfile::tempdir().unwrap();
        let writer = Writer::start(database(folder.path()), None, None, 0).unwrap();
        let (go_on, stay) = channel::<()>();
        writer.queue.change(Box::new(move |_| stay.recv().unwrap()));
        let late = writer.change(|connection| connection.execute("INSERT INTO digests VALUES ('/a', 'b', 'c')", []));
        assert!(matches!(late, Err(Unmade::Busy)));
        go_on.send(()).unwrap();
        let kept = writer.change(|connection| crate::builds::digest(connection, "/a", "b"));
        assert!(matches!(kept, Ok(None)));
    }
}
