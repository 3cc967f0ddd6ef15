//! Keys looked up on a thread of their own, so that no request waits behind a listing or a lock for longer than it may.

use crate::keys::{self, KeyRecord};
use rusqlite::Connection;
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;
use std::time::Duration;

/// Most look-ups that wait.
const MOST_WAITING: usize = 4_096;
/// How long SQLite waits for a lock that another process holds.
pub(crate) const LONGEST_WAIT: Duration = Duration::from_millis(500);

/// Takes the result of a look-up.
pub(crate) type Deliver = Box<dyn FnOnce(rusqlite::Result<Option<KeyRecord>>) + Send>;

struct LookUp {
    id: String,
    deliver: Deliver,
}

/// The thread that looks keys up.
pub(crate) struct KeyReader {
    inbox: Option<SyncSender<LookUp>>,
    thread: Option<JoinHandle<()>>,
}

impl KeyReader {
    /// Starts the thread.
    ///
    /// # Errors
    /// When the system gives none.
    pub fn start(connection: Connection) -> std::io::Result<KeyReader> {
        let (inbox, waiting) = sync_channel(MOST_WAITING);
        let thread = std::thread::Builder::new()
            .name("keys".into())
            .spawn(move || run(&connection, &waiting))?;
        Ok(KeyReader {
            inbox: Some(inbox),
            thread: Some(thread),
        })
    }

    /// Asks for a key; returns whether there was room for the question.
    pub fn ask(&self, id: String, deliver: Deliver) -> bool {
        let inbox = self.inbox.as_ref().expect("it is open until it is dropped");
        !matches!(inbox.try_send(LookUp { id, deliver }), Err(TrySendError::Full(_)))
    }
}

impl Drop for KeyReader {
    fn drop(&mut self) {
        self.inbox = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn run(connection: &Connection, waiting: &Receiver<LookUp>) {
    while let Ok(LookUp { id, deliver }) = waiting.recv() {
        deliver(keys::find(connection, &id));
    }
}
