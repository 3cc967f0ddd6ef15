//! The thread that writes records.

use crate::calls::{self, CallRecord};
use crate::events::{self, EventRecord};
use crate::history::{self, HistoryPoint};
use crate::{Retention, begun, keys, milliseconds_since_1970};
use rusqlite::{Connection, ErrorCode, TransactionBehavior};
use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, channel, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;

/// Most records in one transaction.
const BATCH: usize = 512;
/// Records between two looks at what is too old or too much.
const PRUNE_EVERY: usize = 2_000;
/// Bytes of records between two such looks.
const PRUNE_EVERY_BYTES: usize = 8 << 20;
/// Most records that wait to be written; more are lost and counted.
const MOST_WAITING: usize = 16_384;
/// Longest wait for records to be written.
const FLUSH_PATIENCE: Duration = Duration::from_secs(3);

pub(crate) struct Writer {
    inbox: Option<SyncSender<Act>>,
    thread: Option<JoinHandle<()>>,
    counts: Arc<Counts>,
}

/// What the writer tells without being asked.
#[derive(Default)]
pub(crate) struct Counts {
    /// Calls in the database, as of the last commit: counting them would take longer with each.
    pub calls: AtomicU64,
    /// Records that were lost: there was no room, or the database refused them.
    pub lost: AtomicU64,
    /// Set when no more records come.
    ending: AtomicBool,
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

pub(crate) enum Act {
    /// A call that was accepted.
    Begin(Box<CallRecord>),
    Record(Box<CallRecord>),
    KeyUsed {
        id: String,
        at_ms: i64,
    },
    History(Box<HistoryPoint>),
    Event(Box<EventRecord>),
    Flush(std::sync::mpsc::Sender<()>),
}

impl Writer {
    pub fn start(connection: Connection, retention: Retention, calls: u64) -> Writer {
        let (inbox, acts) = sync_channel(MOST_WAITING);
        let counts = Arc::new(Counts::default());
        counts.calls.store(calls, Ordering::Release);
        let counted = counts.clone();
        let thread = std::thread::Builder::new()
            .name("store".into())
            .spawn(move || run(connection, retention, &acts, &counted))
            .expect("the system gives a thread for the store");
        Writer {
            inbox: Some(inbox),
            thread: Some(thread),
            counts,
        }
    }

    /// Hands over a record without waiting; where there is no room it is lost and counted.
    pub fn send(&self, act: Act) {
        let inbox = self.inbox.as_ref().expect("it is open until it is dropped");
        if let Err(TrySendError::Full(_)) = inbox.try_send(act) {
            self.counts.lost.fetch_add(1, Ordering::AcqRel);
        }
    }

    /// Waits until what came before is written, but no longer than some seconds.
    pub fn flush(&self) {
        let (done, wait) = channel();
        let inbox = self.inbox.as_ref().expect("it is open until it is dropped");
        if inbox.try_send(Act::Flush(done)).is_ok() {
            let _ = wait.recv_timeout(FLUSH_PATIENCE);
        }
    }

    pub fn counts(&self) -> &Arc<Counts> {
        &self.counts
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.counts.ending.store(true, Ordering::Release);
        self.inbox = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Commits what has come in since the last commit, until nobody sends any more.
fn run(mut connection: Connection, retention: Retention, acts: &Receiver<Act>, counts: &Counts) {
    let (mut until_prune, mut bytes_until_prune) = (0, PRUNE_EVERY_BYTES);
    while let Ok(first) = acts.recv() {
        let mut flushes = Vec::new();
        let mut writes = Vec::new();
        for act in std::iter::once(first).chain(acts.try_iter().take(BATCH)) {
            match act {
                Act::Flush(done) => flushes.push(done),
                act => writes.push(act),
            }
        }
        let bytes: usize = writes.iter().map(bytes_of).sum();
        let prune = !writes.is_empty() && (until_prune == 0 || bytes_until_prune <= bytes);
        commit(&mut connection, &writes, prune.then_some(retention), counts);
        if prune {
            (until_prune, bytes_until_prune) = (PRUNE_EVERY, PRUNE_EVERY_BYTES);
        } else {
            until_prune = until_prune.saturating_sub(writes.len());
            bytes_until_prune -= bytes;
        }
        for done in flushes {
            let _ = done.send(());
        }
    }
}

fn bytes_of(act: &Act) -> usize {
    match act {
        Act::Record(call) => call.bytes(),
        _ => 0,
    }
}

/// Commits records, again and again while another process holds the database.
fn commit(connection: &mut Connection, writes: &[Act], prune: Option<Retention>, counts: &Counts) {
    if writes.is_empty() {
        return;
    }
    loop {
        match write(connection, writes, prune) {
            Ok(written) => {
                counts.lost.fetch_add(written.refused, Ordering::AcqRel);
                match written.left {
                    Some(left) => counts.calls.store(left, Ordering::Release),
                    None => drop(counts.calls.fetch_add(written.calls, Ordering::AcqRel)),
                }
                return;
            }
            Err(error) if is_busy(&error) && !counts.ending.load(Ordering::Acquire) => {
                tracing::warn!("the database is locked by another process; records wait");
            }
            Err(error) => {
                tracing::error!(%error, lost = writes.len(), "records could not be written");
                counts.lost.fetch_add(writes.len() as u64, Ordering::AcqRel);
                return;
            }
        }
    }
}

/// Whether another process holds the database.
pub(crate) fn is_busy(error: &rusqlite::Error) -> bool {
    matches!(
        error.sqlite_error_code(),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)
    )
}

/// What a commit did.
#[derive(Default)]
struct Written {
    calls: u64,
    /// Records that the database refused, each for itself.
    refused: u64,
    /// Calls that are left, where some were pruned.
    left: Option<u64>,
}

fn write(connection: &mut Connection, writes: &[Act], prune: Option<Retention>) -> rusqlite::Result<Written> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let mut written = Written::default();
    let ended: HashSet<&str> = writes.iter().filter_map(ended).collect();
    for act in writes {
        let done = match act {
            // Most calls end before anybody looks.
            Act::Begin(call) if ended.contains(call.id.as_str()) => Ok(()),
            Act::Begin(call) => begun::insert(&transaction, call),
            Act::Record(call) => begun::end(&transaction, &call.id)
                .and_then(|()| calls::insert(&transaction, call))
                .inspect(|()| written.calls += 1),
            Act::KeyUsed { id, at_ms } => keys::touch(&transaction, id, *at_ms),
            Act::History(point) => history::insert(&transaction, point),
            Act::Event(event) => events::insert(&transaction, event),
            Act::Flush(_) => Ok(()),
        };
        if let Err(error) = done {
            tracing::error!(%error, "a record could not be written");
            written.refused += 1;
        }
    }
    if let Some(retention) = prune {
        let oldest = milliseconds_since_1970() - retention.age.as_millis() as i64;
        events::prune(&transaction, oldest)?;
        calls::prune(&transaction, oldest, retention.bytes)?;
        written.left = Some(calls::count(&transaction)?);
    }
    transaction.commit()?;
    if prune.is_some() {
        give_back(connection)?;
    }
    Ok(written)
}

/// Returns the call that an act ends.
fn ended(act: &Act) -> Option<&str> {
    match act {
        Act::Record(call) => Some(&call.id),
        _ => None,
    }
}

/// Gives freed space back to the file system.
fn give_back(connection: &Connection) -> rusqlite::Result<()> {
    let mut statement = connection.prepare_cached("PRAGMA incremental_vacuum")?;
    let mut rows = statement.query([])?;
    while rows.next()?.is_some() {}
    Ok(())
}
