//! Records in SQLite.
//!
//! One writer thread takes records from a channel and commits them in batches, so that no request waits for the disk. The
//! database runs with a write-ahead log: a killed process loses what was not committed yet, and nothing else.
#![warn(missing_docs)]

pub mod calls;
mod schema;
mod writer;

pub use calls::CallRecord;

use rusqlite::Connection;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use writer::Writer;

/// Why records cannot be kept or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The folder cannot be made.
    #[error("cannot make the folder {path}: {source}")]
    Folder {
        /// The folder.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// SQLite failed.
    #[error("the database {path}: {source}")]
    Database {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// The database could not be brought to this version's schema.
    #[error("the database {path} has a schema that this version cannot use: {source}")]
    Schema {
        /// The file.
        path: PathBuf,
        /// Why.
        source: rusqlite_migration::Error,
    },
}

/// The database of a service.
pub struct Store {
    path: PathBuf,
    reader: Mutex<Connection>,
    writer: Writer,
}

impl Store {
    /// Opens `vastrelay.sqlite` in a folder, making both when they are not there.
    ///
    /// # Errors
    /// When the folder or the database cannot be made, opened or brought up to date.
    pub fn open(folder: &Path) -> Result<Store, StoreError> {
        std::fs::create_dir_all(folder).map_err(|source| StoreError::Folder {
            path: folder.to_owned(),
            source,
        })?;
        let path = folder.join("vastrelay.sqlite");
        let database = |source| StoreError::Database {
            path: path.clone(),
            source,
        };
        let mut connection = connect(&path).map_err(database)?;
        schema::migrations()
            .to_latest(&mut connection)
            .map_err(|source| StoreError::Schema {
                path: path.clone(),
                source,
            })?;
        let reader = connect(&path).map_err(database)?;
        Ok(Store {
            reader: Mutex::new(reader),
            writer: Writer::start(connection),
            path,
        })
    }

    /// Hands over the record of a call; it is committed soon after.
    pub fn record(&self, call: CallRecord) {
        self.writer.send(call);
    }

    /// Waits until everything handed over before is committed.
    pub fn flush(&self) {
        self.writer.flush();
    }

    /// Returns the number of calls recorded.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn count_calls(&self) -> Result<u64, StoreError> {
        self.read(calls::count)
    }

    /// Returns the newest calls, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn latest_calls(&self, most: usize) -> Result<Vec<CallRecord>, StoreError> {
        self.read(|connection| calls::latest(connection, most))
    }

    fn read<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let connection = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        query(&connection).map_err(|source| StoreError::Database {
            path: self.path.clone(),
            source,
        })
    }
}

fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let connection = Connection::open(path)?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.pragma_update(None, "synchronous", "normal")?;
    connection.busy_timeout(std::time::Duration::from_secs(5))?;
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn call(id: &str) -> CallRecord {
        CallRecord {
            id: id.into(),
            model: "pierdesk".into(),
            status: 200,
            output_tokens: 7,
            ..CallRecord::default()
        }
    }

    #[test]
    fn records_outlive_the_store_and_come_back_newest_first() {
        let folder = tempfile::tempdir().unwrap();
        {
            let store = Store::open(folder.path()).unwrap();
            (0..500).for_each(|n| store.record(call(&format!("call-{n}"))));
        }
        let store = Store::open(folder.path()).unwrap();
        assert_eq!(store.count_calls().unwrap(), 500);
        let latest = store.latest_calls(2).unwrap();
        assert_eq!(latest, [call("call-499"), call("call-498")]);
    }

    #[test]
    fn flush_makes_records_visible() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        store.record(call("a"));
        store.flush();
        assert_eq!(store.count_calls().unwrap(), 1);
    }

    #[test]
    fn a_database_of_a_later_version_is_refused_not_damaged() {
        let folder = tempfile::tempdir().unwrap();
        drop(Store::open(folder.path()).unwrap());
        let connection = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
        connection.pragma_update(None, "user_version", 999).unwrap();
        drop(connection);
        let error = Store::open(folder.path()).err().unwrap().to_string();
        assert!(error.contains("schema"), "{error}");
    }
}
