//! The one thread that writes records.

use crate::calls::{self, CallRecord};
use crate::history::{self, HistoryPoint};
use crate::{Retention, keys, milliseconds_since_1970};
use rusqlite::Connection;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;

/// Most records in one transaction.
const BATCH: usize = 512;
/// Records between two looks at what is too old or too much.
const PRUNE_EVERY: usize = 2_000;

pub(crate) struct Writer {
    inbox: Option<Sender<Act>>,
    thread: Option<JoinHandle<()>>,
    /// Calls in the database, as of the last commit: counting them would take longer with each.
    pub calls: Arc<AtomicU64>,
}

pub(crate) enum Act {
    Record(Box<CallRecord>),
    KeyUsed { id: String, at_ms: i64 },
    History(Box<HistoryPoint>),
    Flush(Sender<()>),
}

impl Writer {
    pub fn start(connection: Connection, retention: Retention, calls: u64) -> Writer {
        let (inbox, acts) = channel();
        let calls = Arc::new(AtomicU64::new(calls));
        let counted = calls.clone();
        let thread = std::thread::Builder::new()
            .name("store".into())
            .spawn(move || run(connection, retention, &acts, &counted))
            .expect("the system gives a thread for the store");
        Writer {
            inbox: Some(inbox),
            thread: Some(thread),
            calls,
        }
    }

    pub fn send(&self, act: Act) {
        if let Some(inbox) = &self.inbox {
            let _ = inbox.send(act);
        }
    }

    pub fn flush(&self) {
        let (done, wait) = channel();
        if let Some(inbox) = &self.inbox
            && inbox.send(Act::Flush(done)).is_ok()
        {
            let _ = wait.recv();
        }
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.inbox = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Commits what has come in since the last commit, until nobody sends any more.
fn run(mut connection: Connection, retention: Retention, acts: &Receiver<Act>, calls: &AtomicU64) {
    let mut until_prune = 0;
    while let Ok(first) = acts.recv() {
        let mut flushes = Vec::new();
        let mut writes = Vec::new();
        for act in std::iter::once(first).chain(acts.try_iter().take(BATCH)) {
            match act {
                Act::Flush(done) => flushes.push(done),
                act => writes.push(act),
            }
        }
        let prune = !writes.is_empty() && until_prune == 0;
        match write(&mut connection, &writes, prune.then_some(retention)) {
            Ok(Some(left)) => calls.store(left, Ordering::Release),
            Ok(None) => {
                let new = writes.iter().filter(|act| matches!(act, Act::Record(_))).count();
                calls.fetch_add(new as u64, Ordering::AcqRel);
            }
            Err(error) => tracing::error!(%error, lost = writes.len(), "records could not be written"),
        }
        until_prune = if prune {
            PRUNE_EVERY
        } else {
            until_prune.saturating_sub(writes.len())
        };
        for done in flushes {
            let _ = done.send(());
        }
    }
}

/// Commits; where calls were pruned, returns how many are left.
fn write(connection: &mut Connection, writes: &[Act], prune: Option<Retention>) -> rusqlite::Result<Option<u64>> {
    if writes.is_empty() {
        return Ok(None);
    }
    let transaction = connection.transaction()?;
    for act in writes {
        match act {
            Act::Record(call) => calls::insert(&transaction, call)?,
            Act::KeyUsed { id, at_ms } => keys::touch(&transaction, id, *at_ms)?,
            Act::History(point) => history::insert(&transaction, point)?,
            Act::Flush(_) => {}
        }
    }
    let mut left = None;
    if let Some(retention) = prune {
        let oldest = milliseconds_since_1970() - retention.age.as_millis() as i64;
        calls::prune(&transaction, oldest, retention.bytes)?;
        left = Some(calls::count(&transaction)?);
    }
    transaction.commit()?;
    Ok(left)
}
