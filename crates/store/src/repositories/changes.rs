//! Changes of endpoints that are under way.

use crate::changes::{self, AtOnce, ChangeRecord, DesiredRecord};
use crate::database::Store;
use crate::error::StoreError;
use crate::jobs::{JobEnd, JobRecord};
use vastrelay_wire::time::milliseconds_since_1970;

impl Store {
    /// Notes a change as under way, with its job, in the place of one that was.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn begin_change(
        &self,
        change: ChangeRecord,
        job: JobRecord,
        at_once: AtOnce,
        replaced: Option<JobEnd>,
    ) -> Result<(), StoreError> {
        self.change(move |connection| changes::begin(connection, &change, &job, at_once, replaced.as_ref()))
    }

    /// Notes how a change of an endpoint ended and, where that is another one, what the endpoint is from now on.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn end_change(&self, endpoint: &str, end: JobEnd, desired: Option<DesiredRecord>) -> Result<(), StoreError> {
        let endpoint = endpoint.to_owned();
        self.change(move |connection| changes::end(connection, &endpoint, &end, desired.as_ref()))
    }

    /// Notes what an endpoint is from now on, without a change.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn becomes(&self, desired: DesiredRecord) -> Result<(), StoreError> {
        let now = milliseconds_since_1970();
        self.change(move |connection| changes::become_(connection, &desired, now))
    }

    /// Returns all changes that are under way, the oldest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn changes(&self) -> Result<Vec<ChangeRecord>, StoreError> {
        self.read(changes::all)
    }
}
