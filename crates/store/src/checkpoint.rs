//! Moves committed pages from the write-ahead log into the database, on a separate thread: the writer does not wait for the disk.
//!
//! The log can restart once all of its pages are moved. Under load that moment never comes by itself, so the thread asks the writer to hold
//! records back while it catches up; changes are written meanwhile.

use rusqlite::Connection;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;

/// Time without a wake-up after which the log is emptied.
const IDLE: Duration = Duration::from_secs(5);
/// Pages in the log from which on records are held back, so that the log can restart.
const MOST_PAGES: i64 = 2_048;
/// Longest wait for other connections before the log is emptied.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_millis(10);
/// Moves in a row while records are held back; a reader may keep the log from its restart for long.
const MOST_MOVES: usize = 20;

pub(crate) struct Checkpointer {
    due: Option<SyncSender<()>>,
    holds: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Checkpointer {
    /// Starts the thread with its connection.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start(connection: Connection) -> std::io::Result<Checkpointer> {
        let (due, waiting) = sync_channel(1);
        let holds: Arc<AtomicBool> = Arc::default();
        let held = holds.clone();
        let thread = std::thread::Builder::new()
            .name("checkpoint".into())
            .spawn(move || run(&connection, &waiting, &held))?;
        Ok(Checkpointer {
            due: Some(due),
            holds,
            thread: Some(thread),
        })
    }

    /// Says that the log has grown.
    pub fn wake(&self) {
        let _ = self.due.as_ref().map(|due| due.try_send(()));
    }

    /// Returns whether records wait until the log can restart.
    pub fn holds_records(&self) -> bool {
        self.holds.load(Ordering::Acquire)
    }
}

impl Drop for Checkpointer {
    fn drop(&mut self) {
        self.due = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn run(connection: &Connection, due: &Receiver<()>, holds: &AtomicBool) {
    loop {
        let woken = due.recv_timeout(IDLE);
        let moved = match woken {
            // Nothing was written for long, so that emptying the log delays no commit.
            Err(RecvTimeoutError::Timeout) => empty(connection),
            Ok(()) | Err(RecvTimeoutError::Disconnected) => catch_up(connection, holds),
        };
        holds.store(false, Ordering::Release);
        if let Err(error) = moved {
            tracing::warn!(%error, "the write-ahead log could not be moved into the database");
        }
        if woken == Err(RecvTimeoutError::Disconnected) {
            return;
        }
    }
}

/// Moves all pages and gives the space of the log back to the file system.
fn empty(connection: &Connection) -> rusqlite::Result<()> {
    connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))
}

/// Moves pages; where the log is long, again and again with records held back, until all are moved.
fn catch_up(connection: &Connection, holds: &AtomicBool) -> rusqlite::Result<()> {
    for _ in 0..MOST_MOVES {
        // A passive checkpoint neither waits for other connections nor blocks them.
        let (pages, moved): (i64, i64) = connection.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |row| {
            Ok((row.get(1)?, row.get(2)?))
        })?;
        if pages <= MOST_PAGES || moved >= pages {
            return Ok(());
        }
        holds.store(true, Ordering::Release);
    }
    Ok(())
}
