//! Records in SQLite.
//!
//! One thread writes. Changes that a caller waits for go first, each in one transaction; records of calls, events and figures
//! follow in short batches, so that no request waits for the disk; then the thread deletes a part of the old records. A few
//! read-only connections serve readers at the same time. The database runs with a write-ahead log: a killed process
//! loses the records that were not committed yet, and nothing else.
#![warn(missing_docs)]

pub mod builds;
mod calls;
mod changes;
mod checkpoint;
mod database;
mod endpoints;
mod error;
mod events;
pub mod history;
mod jobs;
pub mod keys;
mod lock;
mod lookup;
pub mod open_calls;
mod prune;
mod queue;
mod readers;
pub mod releases;
mod repositories;
mod retention;
mod runs;
mod schema;
mod starts;
mod writer;

pub use builds::BuildRecord;
pub use calls::{CallFilter, CallRecord, CallText};
pub use changes::{AtOnce, ChangeRecord, DesiredRecord};
pub use database::Store;
pub use endpoints::{Granted, StoredEndpoint, StoredState};
pub use error::StoreError;
pub use events::{EventFilter, EventRecord};
pub use history::HistoryRecord;
pub use jobs::{JobEnd, JobRecord};
pub use keys::{KeyRecord, Scope};
pub use open_calls::INTERRUPTED;
pub use releases::{IncarnationRecord, ReleaseEntry};
pub use retention::Retention;
pub use runs::RunRecord;
pub use starts::StartRecord;
pub use vastrelay_wire::time::{milliseconds_since_1970, seconds_since_1970};
pub use writer::LostRecords;

#[cfg(test)]
mod tests;
