//! The database of a service: its file, its threads and its connections.

use crate::checkpoint::{self, Checkpointer};
use crate::error::StoreError;
use crate::lock::DataLock;
use crate::lookup::{self, KeyReader};
use crate::readers::{self, Readers};
use crate::retention::Retention;
use crate::writer::{LostRecords, Unmade, Writer};
use crate::{calls, jobs, open_calls, releases, schema};
use rusqlite::Connection;
use std::fs::{DirBuilder, OpenOptions, Permissions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicI64;

/// Bytes that the write-ahead log keeps on disk between commits.
const MOST_JOURNAL: i64 = 8 << 20;

/// The database of a service.
pub struct Store {
    pub(crate) path: PathBuf,
    readers: Readers,
    pub(crate) keys: KeyReader,
    pub(crate) writer: Writer,
    pub(crate) last_incarnation: u64,
    pub(crate) last_job: AtomicI64,
    /// Held until the last thread has ended.
    _lock: Option<DataLock>,
}

impl Store {
    /// Opens `vastrelay.sqlite` in a folder for a service, making both when they are not there. No other service can open
    /// it until this one is dropped.
    ///
    /// # Errors
    /// When another service uses the folder, or the folder or the database cannot be made, opened or brought up to date.
    pub fn open(folder: &Path, retention: Retention) -> Result<Store, StoreError> {
        make_folder(folder)?;
        let lock = DataLock::take(folder)?;
        Store::connect(folder, retention, Some(lock))
    }

    /// Opens the database beside a service that may be running, to look at it or to change its keys.
    ///
    /// # Errors
    /// When the folder or the database cannot be made, opened or brought up to date.
    pub fn open_beside(folder: &Path) -> Result<Store, StoreError> {
        make_folder(folder)?;
        Store::connect(folder, Retention::default(), None)
    }

    fn connect(folder: &Path, retention: Retention, lock: Option<DataLock>) -> Result<Store, StoreError> {
        let path = folder.join("vastrelay.sqlite");
        make_private(&path)?;
        let database = |source| StoreError::Database {
            path: path.clone(),
            source,
        };
        let mut connection = connect(&path).map_err(database)?;
        if lock.is_some() {
            schema::make_shrinkable(&connection).map_err(database)?;
        }
        schema::migrations()
            .to_latest(&mut connection)
            .map_err(|source| StoreError::Schema {
                path: path.clone(),
                source,
            })?;
        if lock.is_some() {
            let left = open_calls::interrupt(&mut connection).map_err(database)?;
            if left > 0 {
                tracing::warn!(
                    calls = left,
                    "the service before this one was killed; its calls are recorded as interrupted"
                );
            }
        }
        let readers = Readers::open(&path).map_err(database)?;
        let keys = readers::connect(&path).map_err(database)?;
        keys.busy_timeout(lookup::LONGEST_WAIT).map_err(database)?;
        let calls = calls::count(&connection).map_err(database)?;
        let last_incarnation = releases::last_incarnation(&connection).map_err(database)?;
        let last_job = jobs::last(&connection).map_err(database)?;
        let served = lock.is_some();
        let checkpointer = match served {
            true => {
                // The other thread moves the log's pages, so that no commit waits for them.
                connection
                    .pragma_update(None, "wal_autocheckpoint", 0)
                    .map_err(database)?;
                let own = connect(&path).map_err(database)?;
                own.busy_timeout(checkpoint::LONGEST_WAIT).map_err(database)?;
                Some(Checkpointer::start(own).map_err(StoreError::Thread)?)
            }
            false => None,
        };
        let writer = Writer::start(connection, checkpointer, served.then_some(retention), calls);
        Ok(Store {
            readers,
            keys: KeyReader::start(keys).map_err(StoreError::Thread)?,
            writer: writer.map_err(StoreError::Thread)?,
            last_incarnation,
            last_job: last_job.into(),
            path,
            _lock: lock,
        })
    }

    /// Waits until everything handed over before is committed.
    pub fn flush(&self) {
        self.writer.flush();
    }

    /// Returns the counter of lost records, which keeps counting.
    pub fn lost(&self) -> LostRecords {
        LostRecords(self.writer.counts().clone())
    }

    pub(crate) fn read<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let read = self.readers.read(query).ok_or(StoreError::Busy)?;
        read.map_err(|source| self.failed(source))
    }

    pub(crate) fn change<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.writer.change(change).map_err(|unmade| match unmade {
            Unmade::Busy => StoreError::Busy,
            Unmade::Failed(source) => self.failed(source),
            Unmade::Lost => StoreError::Lost,
        })
    }

    pub(crate) fn failed(&self, source: rusqlite::Error) -> StoreError {
        StoreError::Database {
            path: self.path.clone(),
            source,
        }
    }
}

/// Makes the folder, for its owner alone.
fn make_folder(folder: &Path) -> Result<(), StoreError> {
    let made = DirBuilder::new().recursive(true).mode(0o700).create(folder);
    let made = made.and_then(|()| std::fs::set_permissions(folder, Permissions::from_mode(0o700)));
    made.map_err(|source| StoreError::Folder {
        path: folder.to_owned(),
        source,
    })
}

/// Makes the database's file, for its owner alone; SQLite gives the files beside it the same mode.
fn make_private(path: &Path) -> Result<(), StoreError> {
    let mut options = OpenOptions::new();
    let made = options.create(true).append(true).mode(0o600).open(path);
    let made = made.and_then(|file| file.set_permissions(Permissions::from_mode(0o600)));
    made.map_err(|source| StoreError::Folder {
        path: path.to_owned(),
        source,
    })
}

pub(crate) fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let connection = Connection::open(path)?;
    // Has to come before the first table; older databases get it when they are next rewritten.
    connection.pragma_update(None, "auto_vacuum", "incremental")?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.pragma_update(None, "synchronous", "normal")?;
    connection.pragma_update(None, "journal_size_limit", MOST_JOURNAL)?;
    connection.busy_timeout(std::time::Duration::from_secs(5))?;
    Ok(connection)
}
