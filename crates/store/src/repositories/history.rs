//! Measurements of replicas over time.

use crate::database::Store;
use crate::error::StoreError;
use crate::history::{self, HistoryRecord};
use crate::queue::Record;
use vastrelay_wire::manage::HistoryPoint;

impl Store {
    /// Hands over what a replica was like over a stretch of time; it is committed soon after.
    pub fn record_history(&self, record: HistoryRecord) {
        self.writer.record(Record::History(Box::new(record)));
    }

    /// Returns what an endpoint's replicas were like, in stretches of so many seconds that began at a moment or later, oldest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn history(&self, endpoint: &str, span: u32, from_ms: i64) -> Result<Vec<HistoryPoint>, StoreError> {
        self.read(|connection| history::since(connection, endpoint, span, from_ms))
    }
}
