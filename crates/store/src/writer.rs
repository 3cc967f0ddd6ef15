//! The one thread that writes.

use crate::calls::{self, CallRecord};
use rusqlite::Connection;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;

/// Most records in one transaction.
const BATCH: usize = 512;

pub(crate) struct Writer {
    inbox: Option<Sender<Act>>,
    thread: Option<JoinHandle<()>>,
}

enum Act {
    Record(Box<CallRecord>),
    Flush(Sender<()>),
}

impl Writer {
    pub fn start(connection: Connection) -> Writer {
        let (inbox, acts) = channel();
        let thread = std::thread::Builder::new()
            .name("store".into())
            .spawn(move || run(connection, &acts))
            .expect("the system gives a thread for the store");
        Writer {
            inbox: Some(inbox),
            thread: Some(thread),
        }
    }

    pub fn send(&self, call: CallRecord) {
        if let Some(inbox) = &self.inbox {
            let _ = inbox.send(Act::Record(Box::new(call)));
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
fn run(mut connection: Connection, acts: &Receiver<Act>) {
    while let Ok(first) = acts.recv() {
        let mut flushes = Vec::new();
        let mut records = Vec::new();
        for act in std::iter::once(first).chain(acts.try_iter().take(BATCH)) {
            match act {
                Act::Record(call) => records.push(call),
                Act::Flush(done) => flushes.push(done),
            }
        }
        if let Err(error) = write(&mut connection, &records) {
            tracing::error!(%error, lost = records.len(), "records could not be written");
        }
        for done in flushes {
            let _ = done.send(());
        }
    }
}

fn write(connection: &mut Connection, records: &[Box<CallRecord>]) -> rusqlite::Result<()> {
    if records.is_empty() {
        return Ok(());
    }
    let transaction = connection.transaction()?;
    records.iter().try_for_each(|call| calls::insert(&transaction, call))?;
    transaction.commit()
}
