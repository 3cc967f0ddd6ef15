//! Moves committed pages from the write-ahead log into the database, on a thread of its own: the disk may take its time, and
//! the writer does not wait for it.

use rusqlite::Connection;
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;

/// Longest time that pages stay in the log while nothing else happens.
const EVERY: Duration = Duration::from_secs(30);
/// Pages in the log from which on it begins anew: readers and the writer have to wait for that, if only for a moment.
const MOST_PAGES: i64 = 2_048;
/// Longest wait for the writer and for readers, so that the log can begin anew.
pub(crate) const PATIENCE: Duration = Duration::from_millis(10);

pub(crate) struct Checkpointer {
    due: Option<SyncSender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Checkpointer {
    /// Starts the thread on a connection of its own.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start(connection: Connection) -> std::io::Result<Checkpointer> {
        let (due, waiting) = sync_channel(1);
        let thread = std::thread::Builder::new()
            .name("checkpoint".into())
            .spawn(move || run(&connection, &waiting))?;
        Ok(Checkpointer {
            due: Some(due),
            thread: Some(thread),
        })
    }

    /// Says that the log has grown.
    pub fn wake(&self) {
        let _ = self.due.as_ref().map(|due| due.try_send(()));
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

fn run(connection: &Connection, due: &Receiver<()>) {
    loop {
        let woken = due.recv_timeout(EVERY);
        if let Err(error) = move_pages(connection) {
            tracing::warn!(%error, "the write-ahead log could not be moved into the database");
        }
        if woken == Err(RecvTimeoutError::Disconnected) {
            return;
        }
    }
}

fn move_pages(connection: &Connection) -> rusqlite::Result<()> {
    let pages_in_log = |row: &rusqlite::Row<'_>| row.get::<_, i64>(1);
    // A passive checkpoint moves what it can without making anybody wait; almost nothing is left for the other one.
    let pages = connection.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], pages_in_log)?;
    if pages > MOST_PAGES {
        connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], pages_in_log)?;
    }
    Ok(())
}
