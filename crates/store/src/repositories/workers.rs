//! Starts of workers, and the numbers of their incarnations.

use crate::database::Store;
use crate::error::StoreError;
use crate::queue::Record;
use crate::releases::IncarnationRecord;
use crate::starts::{self, StartRecord};

impl Store {
    /// Hands over how long a start took; it is committed soon after.
    pub fn record_start(&self, start: StartRecord) {
        self.writer.record(Record::Start(Box::new(start)));
    }

    /// Returns how long the last starts of an endpoint took, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn starts(&self, endpoint: &str) -> Result<Vec<StartRecord>, StoreError> {
        self.read(|connection| starts::of(connection, endpoint))
    }

    /// Returns the highest number of an incarnation that is known.
    pub fn last_incarnation(&self) -> u64 {
        self.last_incarnation
    }

    /// Hands over the record of an incarnation that begins; it is committed soon after, and a database that cannot be written keeps no worker
    /// from its start.
    pub fn record_incarnation(&self, begun: IncarnationRecord) {
        self.writer.record(Record::Incarnation(Box::new(begun)));
    }
}
