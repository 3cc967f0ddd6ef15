//! Events of endpoints.

use crate::database::Store;
use crate::error::StoreError;
use crate::events::{self, EventFilter, EventRecord};
use crate::queue::Record;

impl Store {
    /// Notes that something happened to an endpoint; it is committed soon after.
    pub fn note(&self, event: EventRecord) {
        self.writer.record(Record::Event(Box::new(event)));
    }

    /// Returns the newest events that pass a filter, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn events(&self, filter: &EventFilter, most: usize) -> Result<Vec<EventRecord>, StoreError> {
        self.read(|connection| events::find(connection, filter, most))
    }
}
