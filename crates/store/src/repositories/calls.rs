//! Calls: accepted ones, ended ones, and how to find them.

use crate::calls::{self, CallFilter, CallRecord};
use crate::database::Store;
use crate::error::StoreError;
use crate::queue::Record;
use std::sync::atomic::Ordering;

impl Store {
    /// Hands over the record of a call; it is committed soon after.
    pub fn record(&self, call: CallRecord) {
        self.writer.record(Record::Call(Box::new(call)));
    }

    /// Notes a call that was accepted; it is committed soon after. If it is never recorded, as the service is killed, the next one records
    /// it as [`INTERRUPTED`](crate::INTERRUPTED).
    pub fn begin(&self, call: CallRecord) {
        self.writer.record(Record::Begun(Box::new(call)));
    }

    /// Returns the number of calls recorded, as of the last commit.
    pub fn count_calls(&self) -> u64 {
        self.writer.counts().calls.load(Ordering::Acquire)
    }

    /// Returns the newest calls that pass a filter, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn calls(&self, filter: &CallFilter, most: usize) -> Result<Vec<CallRecord>, StoreError> {
        self.read(|connection| calls::find(connection, filter, most))
    }

    /// Returns the newest call whose id begins so, with its gaps and, when it was kept, its text.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn call(&self, id_start: &str) -> Result<Option<CallRecord>, StoreError> {
        self.read(|connection| calls::one(connection, id_start))
    }
}
