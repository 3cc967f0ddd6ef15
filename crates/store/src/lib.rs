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
mod endpoints;
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
mod runs;
mod schema;
mod starts;
mod time;
mod writer;

pub use builds::BuildRecord;
pub use calls::{CallFilter, CallRecord, CallText};
pub use changes::{AtOnce, ChangeRecord, DesiredRecord};
pub use endpoints::{Granted, StoredEndpoint, StoredState};
pub use events::{EventFilter, EventRecord};
pub use history::HistoryPoint;
pub use jobs::{JobEnd, JobRecord};
pub use keys::{KeyRecord, Scope};
pub use open_calls::INTERRUPTED;
pub use releases::{IncarnationRecord, ReleaseEntry};
pub use runs::RunRecord;
pub use starts::StartRecord;
pub use time::{milliseconds_since_1970, seconds_since_1970};
pub use writer::LostRecords;

use checkpoint::Checkpointer;
use lock::DataLock;
use lookup::KeyReader;
use queue::Record;
use readers::Readers;
use rusqlite::Connection;
use std::fs::{DirBuilder, OpenOptions, Permissions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;
use writer::{Unmade, Writer};

/// Why records cannot be kept or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The folder cannot be made.
    #[error("cannot create the folder {path}: {source}")]
    Folder {
        /// The folder.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// Another service uses the folder.
    #[error("another service uses {path}; stop it, or give this one another folder with --data")]
    InUse {
        /// The folder.
        path: PathBuf,
    },
    /// Too many others use the database.
    #[error("the database has too much to do; try again in some seconds")]
    Busy,
    /// The system gives no thread.
    #[error("the system gives no thread for the database: {0}")]
    Thread(std::io::Error),
    /// The program's own fault, of which the log has more.
    #[error("the change of the database was not made; the log says why")]
    Lost,
    /// SQLite failed.
    #[error("the database {path}: {source}")]
    Database {
        /// The file.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// The database could not be brought to this version's schema.
    #[error("this version cannot use the database {path}: {source}")]
    Schema {
        /// The file.
        path: PathBuf,
        /// Why.
        source: rusqlite_migration::Error,
    },
}

impl StoreError {
    /// Returns whether it may work in a moment: another process holds the database, or too much waits.
    pub fn is_busy(&self) -> bool {
        match self {
            StoreError::Busy => true,
            StoreError::Database { source, .. } => writer::is_busy(source),
            _ => false,
        }
    }
}

/// How long records are kept. Keys stay until a caller revokes them.
#[derive(Clone, Copy, Debug)]
pub struct Retention {
    /// Older calls and events are deleted.
    pub age: Duration,
    /// When the database has more bytes without load tests, the oldest texts are deleted, then the oldest calls.
    pub bytes: u64,
    /// When load tests have more bytes, the oldest ones are deleted.
    pub run_bytes: u64,
}

impl Default for Retention {
    /// Thirty days, one gibibyte, and half a gibibyte of load tests.
    fn default() -> Retention {
        Retention {
            age: Duration::from_secs(30 * 24 * 3600),
            bytes: 1 << 30,
            run_bytes: 512 << 20,
        }
    }
}

/// Bytes that the write-ahead log keeps on disk between commits.
const MOST_JOURNAL: i64 = 8 << 20;

/// The database of a service.
pub struct Store {
    path: PathBuf,
    readers: Readers,
    keys: KeyReader,
    writer: Writer,
    last_incarnation: u64,
    last_job: AtomicI64,
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

    /// Hands over the record of a call; it is committed soon after.
    pub fn record(&self, call: CallRecord) {
        self.writer.record(Record::Call(Box::new(call)));
    }

    /// Notes a call that was accepted; it is committed soon after. If it is never recorded, as the service is killed, the next one records
    /// it as [`INTERRUPTED`].
    pub fn begin(&self, call: CallRecord) {
        self.writer.record(Record::Begun(Box::new(call)));
    }

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

    /// Notes that a key was used; it is committed soon after.
    pub fn key_used(&self, id: &str, at_ms: i64) {
        self.writer.record(Record::KeyUsed {
            id: id.to_owned(),
            at_ms,
        });
    }

    /// Hands over what a replica was like over a stretch of time; it is committed soon after.
    pub fn record_history(&self, point: HistoryPoint) {
        self.writer.record(Record::History(Box::new(point)));
    }

    /// Returns what an endpoint's replicas were like, in stretches of so many seconds that began at a moment or later, oldest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn history(&self, endpoint: &str, span: u32, from_ms: i64) -> Result<Vec<HistoryPoint>, StoreError> {
        self.read(|connection| history::since(connection, endpoint, span, from_ms))
    }

    /// Waits until everything handed over before is committed.
    pub fn flush(&self) {
        self.writer.flush();
    }

    /// Returns the number of calls recorded, as of the last commit.
    pub fn count_calls(&self) -> u64 {
        self.writer.counts().calls.load(Ordering::Acquire)
    }

    /// Returns the count of records that are lost, which goes on counting.
    pub fn lost(&self) -> LostRecords {
        LostRecords(self.writer.counts().clone())
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

    /// Keeps a new key.
    ///
    /// # Errors
    /// SQLite's own, also when there is a key of that id.
    pub fn add_key(&self, key: &KeyRecord) -> Result<(), StoreError> {
        let key = key.clone();
        self.change(move |connection| keys::insert(connection, &key))
    }

    /// Returns a key by its id.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn key(&self, id: &str) -> Result<Option<KeyRecord>, StoreError> {
        self.read(|connection| keys::find(connection, id))
    }

    /// Looks a key up by its id on a thread of its own, and delivers there what was found.
    ///
    /// # Errors
    /// When too many look-ups wait; then nothing is delivered.
    pub fn look_up_key(
        &self,
        id: &str,
        deliver: impl FnOnce(Result<Option<KeyRecord>, StoreError>) + Send + 'static,
    ) -> Result<(), StoreError> {
        let path = self.path.clone();
        let told =
            move |found: rusqlite::Result<_>| deliver(found.map_err(|source| StoreError::Database { path, source }));
        match self.keys.ask(id.to_owned(), Box::new(told)) {
            true => Ok(()),
            false => Err(StoreError::Busy),
        }
    }

    /// Returns all keys, the oldest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn keys(&self) -> Result<Vec<KeyRecord>, StoreError> {
        self.read(keys::all)
    }

    /// Revokes a key at once; returns whether it was there.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn revoke_key(&self, id: &str, now_ms: i64) -> Result<bool, StoreError> {
        let id = id.to_owned();
        self.change(move |connection| keys::revoke(connection, &id, now_ms))
    }

    /// Returns the releases of an endpoint, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn releases(&self, endpoint: &str) -> Result<Vec<ReleaseEntry>, StoreError> {
        self.read(|connection| releases::all(connection, endpoint))
    }

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

    /// Returns the highest number of a release of an endpoint, and what tells a release of it from others, as JSON, where it is known.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn release_of(&self, endpoint: &str, release: u32) -> Result<(u32, Option<String>), StoreError> {
        self.read(|connection| {
            let last = releases::last(connection, endpoint)?;
            Ok((last, changes::identity(connection, endpoint, release)?))
        })
    }

    /// Notes whether an endpoint is served; returns whether it is kept at all.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn set_state(&self, name: &str, state: StoredState) -> Result<bool, StoreError> {
        let name = name.to_owned();
        self.change(move |connection| endpoints::set_state(connection, &name, state))
    }

    /// Keeps an endpoint and its releases under another name, unless there is one of that name.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn rename_endpoint(&self, from: &str, to: &str) -> Result<(), StoreError> {
        let (from, to) = (from.to_owned(), to.to_owned());
        self.change(move |connection| endpoints::rename(connection, &from, &to))
    }

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

    /// Returns what endpoints are to be, in the order of their names.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn stored_endpoints(&self) -> Result<Vec<StoredEndpoint>, StoreError> {
        self.read(endpoints::all)
    }

    /// Returns what an endpoint is to be.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn stored_endpoint(&self, name: &str) -> Result<Option<StoredEndpoint>, StoreError> {
        self.read(|connection| endpoints::one(connection, name))
    }

    /// Returns the number of a new job.
    pub fn next_job(&self) -> i64 {
        self.last_job.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Keeps a new job under its number.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn begin_job(&self, job: &JobRecord) -> Result<(), StoreError> {
        let job = job.clone();
        self.change(move |connection| jobs::begin(connection, &job))
    }

    /// Keeps how far a job is.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn update_job(&self, job: &JobRecord) -> Result<(), StoreError> {
        let job = job.clone();
        self.change(move |connection| jobs::update(connection, &job))
    }

    /// Notes that jobs of these states were interrupted, as their service has ended.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn interrupt_jobs(&self, states: [&'static str; 2]) -> Result<(), StoreError> {
        let now = milliseconds_since_1970();
        self.change(move |connection| jobs::interrupt(connection, states, now))
    }

    /// Returns the newest jobs of a kind, or of all of them, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn jobs(&self, kind: Option<&str>, most: usize) -> Result<Vec<JobRecord>, StoreError> {
        self.read(|connection| jobs::latest(connection, kind, most))
    }

    /// Returns a job.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn job(&self, number: i64) -> Result<Option<JobRecord>, StoreError> {
        self.read(|connection| jobs::one(connection, number))
    }

    /// Keeps a build that was made.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn keep_build(&self, build: &BuildRecord) -> Result<(), StoreError> {
        let build = build.clone();
        self.change(move |connection| builds::keep(connection, &build))
    }

    /// Notes that a release of an endpoint uses a build.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn note_use_of_build(&self, digest: &str, endpoint: &str, release: u32) -> Result<(), StoreError> {
        let (digest, endpoint) = (digest.to_owned(), endpoint.to_owned());
        self.change(move |connection| builds::note_use(connection, &digest, &endpoint, release))
    }

    /// Forgets an endpoint's uses of builds, and the builds that are unused then; returns those builds.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn release_builds(&self, endpoint: &str, held: &[String]) -> Result<Vec<BuildRecord>, StoreError> {
        let (endpoint, held) = (endpoint.to_owned(), held.to_vec());
        let now = milliseconds_since_1970();
        self.change(move |connection| builds::release(connection, &endpoint, &held, now))
    }

    /// Returns all builds, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn builds(&self) -> Result<Vec<BuildRecord>, StoreError> {
        self.read(builds::all)
    }

    /// Returns the digest of a file that was kept with its stamp.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn digest(&self, path: &str, stamp: &str) -> Result<Option<String>, StoreError> {
        self.read(|connection| builds::digest(connection, path, stamp))
    }

    /// Keeps the digest of a file with its stamp.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn keep_digest(&self, path: &str, stamp: &str, digest: &str) -> Result<(), StoreError> {
        let (path, stamp, digest) = (path.to_owned(), stamp.to_owned(), digest.to_owned());
        self.change(move |connection| builds::keep_digest(connection, &path, &stamp, &digest))
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

    /// Keeps a run, in the place of one of the same id.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn add_run(&self, run: &RunRecord) -> Result<(), StoreError> {
        let run = run.clone();
        self.change(move |connection| runs::insert(connection, &run))
    }

    /// Returns the newest runs, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn runs(&self, most: usize) -> Result<Vec<RunRecord>, StoreError> {
        self.read(|connection| runs::latest(connection, most))
    }

    /// Returns the newest runs of a name, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn runs_named(&self, name: &str, most: usize) -> Result<Vec<RunRecord>, StoreError> {
        self.read(|connection| runs::named(connection, name, most))
    }

    /// Returns a run by its id.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn run(&self, id: &str) -> Result<Option<RunRecord>, StoreError> {
        self.read(|connection| runs::one(connection, id))
    }

    /// Deletes a run; returns whether it was there.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn delete_run(&self, id: &str) -> Result<bool, StoreError> {
        let id = id.to_owned();
        self.change(move |connection| runs::delete(connection, &id))
    }

    fn read<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let read = self.readers.read(query).ok_or(StoreError::Busy)?;
        read.map_err(|source| self.failed(source))
    }

    fn change<T: Send + 'static>(
        &self,
        change: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.writer.change(change).map_err(|unmade| match unmade {
            Unmade::Busy => StoreError::Busy,
            Unmade::Failed(source) => self.failed(source),
            Unmade::Lost => StoreError::Lost,
        })
    }

    fn failed(&self, source: rusqlite::Error) -> StoreError {
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

fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let connection = Connection::open(path)?;
    // Has to come before the first table; older databases get it when they are next rewritten.
    connection.pragma_update(None, "auto_vacuum", "incremental")?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.pragma_update(None, "synchronous", "normal")?;
    connection.pragma_update(None, "journal_size_limit", MOST_JOURNAL)?;
    connection.busy_timeout(std::time::Duration::from_secs(5))?;
    Ok(connection)
}

#[cfg(test)]
mod tests;
