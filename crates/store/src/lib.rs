//! Records in SQLite.
//!
//! One writer thread takes records from a channel and commits them in batches, so that no request waits for the disk. The
//! database runs with a write-ahead log: a killed process loses what was not committed yet, and nothing else.
#![warn(missing_docs)]

pub mod begun;
pub mod builds;
mod calls;
mod events;
pub mod history;
mod jobs;
mod kept;
pub mod keys;
mod lock;
mod lookup;
pub mod releases;
mod runs;
mod schema;
mod starts;
mod writer;

pub use begun::INTERRUPTED;
pub use builds::BuildRecord;
pub use calls::{CallFilter, CallRecord, CallText};
pub use events::{EventFilter, EventRecord};
pub use history::HistoryPoint;
pub use jobs::JobRecord;
pub use kept::{Granted, KeptEndpoint, Standing};
pub use keys::{KeyRecord, Scope};
pub use releases::{BegunReplica, ReleaseEntry};
pub use runs::RunRecord;
pub use starts::StartRecord;
pub use writer::LostRecords;

use lock::DataLock;
use lookup::KeyReader;
use rusqlite::Connection;
use std::fs::{DirBuilder, OpenOptions, Permissions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use writer::{Act, Writer};

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
    /// The thread that looks keys up is behind.
    #[error("too many key look-ups are waiting")]
    Busy,
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

/// How long calls and events are kept. Keys and runs are kept until somebody removes them.
#[derive(Clone, Copy, Debug)]
pub struct Retention {
    /// Older calls and events are deleted.
    pub age: Duration,
    /// When the database holds more bytes, the oldest calls are deleted.
    pub bytes: u64,
}

impl Default for Retention {
    /// Thirty days, one gibibyte.
    fn default() -> Retention {
        Retention {
            age: Duration::from_secs(30 * 24 * 3600),
            bytes: 1 << 30,
        }
    }
}

/// Bytes that the write-ahead log keeps on disk between commits.
const MOST_JOURNAL: i64 = 8 << 20;

/// The database of a service.
pub struct Store {
    path: PathBuf,
    reader: Mutex<Connection>,
    keys: KeyReader,
    writer: Writer,
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
            let left = begun::interrupt(&mut connection).map_err(database)?;
            if left > 0 {
                tracing::warn!(
                    calls = left,
                    "the service before this one was killed; its calls are recorded as interrupted"
                );
            }
        }
        let reader = connect(&path).map_err(database)?;
        let keys = connect(&path).map_err(database)?;
        keys.busy_timeout(lookup::PATIENCE).map_err(database)?;
        let calls = calls::count(&reader).map_err(database)?;
        Ok(Store {
            reader: Mutex::new(reader),
            keys: KeyReader::start(keys),
            writer: Writer::start(connection, retention, calls),
            path,
            _lock: lock,
        })
    }

    /// Hands over the record of a call; it is committed soon after.
    pub fn record(&self, call: CallRecord) {
        self.writer.send(Act::Record(Box::new(call)));
    }

    /// Notes a call that was accepted; it is committed soon after. If it is never recorded, as the service is killed, the next one records
    /// it as [`INTERRUPTED`].
    pub fn begin(&self, call: CallRecord) {
        self.writer.send(Act::Begin(Box::new(call)));
    }

    /// Notes that something happened to an endpoint; it is committed soon after.
    pub fn note(&self, event: EventRecord) {
        self.writer.send(Act::Event(Box::new(event)));
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
        self.writer.send(Act::KeyUsed {
            id: id.to_owned(),
            at_ms,
        });
    }

    /// Hands over what a replica was like over a stretch of time; it is committed soon after.
    pub fn record_history(&self, point: HistoryPoint) {
        self.writer.send(Act::History(Box::new(point)));
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
        self.read(|connection| keys::insert(connection, key))
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
        self.read(|connection| keys::revoke(connection, id, now_ms))
    }

    /// Returns the number of an endpoint's release with these settings: that of its newest, if that has them, else a new one.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn release(&self, endpoint: &str, settings: &str) -> Result<u32, StoreError> {
        let now = milliseconds_since_1970();
        self.read(|connection| releases::number(connection, endpoint, settings, now))
    }

    /// Returns the releases of an endpoint, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn releases(&self, endpoint: &str) -> Result<Vec<ReleaseEntry>, StoreError> {
        self.read(|connection| releases::all(connection, endpoint))
    }

    /// Keeps what an endpoint is to be, in the place of what was kept under its name, also for its release.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn keep_endpoint(&self, endpoint: &KeptEndpoint, release: u32) -> Result<(), StoreError> {
        self.read(|connection| {
            releases::describe(connection, endpoint, release)?;
            kept::keep(connection, endpoint)
        })
    }

    /// Notes whether an endpoint is served; returns whether it is kept at all.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn stand(&self, name: &str, standing: Standing) -> Result<bool, StoreError> {
        self.read(|connection| kept::stand(connection, name, standing))
    }

    /// Forgets what an endpoint was to be, and how long its starts took.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn forget_endpoint(&self, name: &str) -> Result<(), StoreError> {
        self.read(|connection| {
            starts::forget(connection, name)?;
            kept::forget(connection, name)
        })
    }

    /// Keeps an endpoint and its releases under another name, unless there is one of that name.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn rename_endpoint(&self, from: &str, to: &str) -> Result<(), StoreError> {
        self.read(|connection| kept::rename(connection, from, to))
    }

    /// Keeps how long a start took.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn keep_start(&self, start: &StartRecord) -> Result<(), StoreError> {
        self.read(|connection| starts::keep(connection, start))
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
    pub fn kept_endpoints(&self) -> Result<Vec<KeptEndpoint>, StoreError> {
        self.read(kept::all)
    }

    /// Returns what an endpoint is to be.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn kept_endpoint(&self, name: &str) -> Result<Option<KeptEndpoint>, StoreError> {
        self.read(|connection| kept::one(connection, name))
    }

    /// Keeps a new job; returns its number.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn begin_job(&self, job: &JobRecord) -> Result<i64, StoreError> {
        self.read(|connection| jobs::begin(connection, job))
    }

    /// Keeps how far a job is.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn update_job(&self, job: &JobRecord) -> Result<(), StoreError> {
        self.read(|connection| jobs::update(connection, job))
    }

    /// Notes that jobs of these states were interrupted, as their service has ended.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn interrupt_jobs(&self, states: [&str; 2]) -> Result<(), StoreError> {
        let now = milliseconds_since_1970();
        self.read(|connection| jobs::interrupt(connection, states, now))
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
        self.read(|connection| builds::keep(connection, build))
    }

    /// Notes that a release of an endpoint uses a build.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn note_use_of_build(&self, digest: &str, endpoint: &str, release: u32) -> Result<(), StoreError> {
        self.read(|connection| builds::note_use(connection, digest, endpoint, release))
    }

    /// Forgets what an endpoint uses; returns the builds that nobody uses any more, and forgets them, too.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn release_builds(&self, endpoint: &str, held: &[String]) -> Result<Vec<BuildRecord>, StoreError> {
        let now = milliseconds_since_1970();
        self.read(|connection| builds::release(connection, endpoint, held, now))
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
        self.read(|connection| builds::keep_digest(connection, path, stamp, digest))
    }

    /// Begins a life of a replica; returns its number, which no other has.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn begin_incarnation(&self, begun: &BegunReplica<'_>) -> Result<u64, StoreError> {
        let now = milliseconds_since_1970();
        self.read(|connection| releases::begin(connection, begun, now))
    }

    /// Keeps a run, in the place of one of the same id.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn add_run(&self, run: &RunRecord) -> Result<(), StoreError> {
        self.read(|connection| runs::insert(connection, run))
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

    fn read<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let connection = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        query(&connection).map_err(|source| self.failed(source))
    }

    fn failed(&self, source: rusqlite::Error) -> StoreError {
        StoreError::Database {
            path: self.path.clone(),
            source,
        }
    }
}

/// Returns the time in milliseconds since 1970.
pub fn milliseconds_since_1970() -> i64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |time| time.as_millis() as i64)
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
mod tests {
    use super::*;

    fn open(folder: &Path) -> Store {
        Store::open(folder, Retention::default()).unwrap()
    }

    fn call(id: &str) -> CallRecord {
        CallRecord {
            id: id.into(),
            at_ms: milliseconds_since_1970(),
            endpoint: "pierdesk".into(),
            status: 200,
            output_tokens: 7,
            ..CallRecord::default()
        }
    }

    fn ids(calls: &[CallRecord]) -> Vec<&str> {
        calls.iter().map(|call| call.id.as_str()).collect()
    }

    #[test]
    fn calls_that_never_ended_are_interrupted_for_the_next_service_and_only_once() {
        let folder = tempfile::tempdir().unwrap();
        {
            let store = open(folder.path());
            ["ends", "never ends"].iter().for_each(|id| store.begin(call(id)));
            store.flush();
            store.record(call("ends"));
            store.begin(call("ends at once"));
            store.record(call("ends at once"));
        }
        for _ in 0..2 {
            let calls = open(folder.path()).calls(&CallFilter::default(), 10).unwrap();
            assert_eq!(ids(&calls), ["never ends", "ends at once", "ends"]);
            let outcomes: Vec<&str> = calls.iter().map(|call| call.outcome.as_str()).collect();
            assert_eq!(outcomes, [INTERRUPTED, "", ""]);
        }
    }

    #[test]
    fn records_outlive_the_store_and_come_back_newest_first() {
        let folder = tempfile::tempdir().unwrap();
        {
            let store = open(folder.path());
            (0..500).for_each(|n| store.record(call(&format!("call-{n}"))));
        }
        let store = open(folder.path());
        assert_eq!(store.count_calls(), 500);
        let latest = store.calls(&CallFilter::default(), 2).unwrap();
        assert_eq!(ids(&latest), ["call-499", "call-498"]);
    }

    #[test]
    fn a_call_comes_back_whole_by_the_start_of_its_id() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let text = CallText {
            prompt: "[]".into(),
            answer: "Aye".into(),
        };
        let whole = CallRecord {
            gaps: vec![1, 70_000, 3],
            text: Some(text),
            caller: "desk".into(),
            parameters: r#"{"seed":7}"#.into(),
            ..call("abcdef")
        };
        store.record(whole.clone());
        store.flush();
        assert_eq!(store.call("abc").unwrap(), Some(whole));
        assert_eq!(store.call("abd").unwrap(), None);
    }

    #[test]
    fn filters_let_pass_what_meets_all_of_them() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        for (id, status, ttft, caller) in [("a", 200, 0.1, ""), ("b", 429, 0.0, "desk"), ("c", 200, 0.9, "desk")] {
            store.record(CallRecord {
                status,
                ttft,
                caller: caller.into(),
                ..call(id)
            });
        }
        store.flush();
        let find = |filter: CallFilter| {
            store
                .calls(&filter, 9)
                .unwrap()
                .into_iter()
                .map(|c| c.id)
                .collect::<String>()
        };
        let filter = CallFilter::default;
        assert_eq!(
            find(CallFilter {
                failed: Some(true),
                ..filter()
            }),
            "b"
        );
        assert_eq!(
            find(CallFilter {
                failed: Some(false),
                ..filter()
            }),
            "ca"
        );
        assert_eq!(
            find(CallFilter {
                least_ttft: Some(0.5),
                ..filter()
            }),
            "c"
        );
        assert_eq!(
            find(CallFilter {
                caller: Some("desk".into()),
                endpoint: Some("pierdesk".into()),
                ..filter()
            }),
            "cb"
        );
        assert_eq!(
            find(CallFilter {
                from_ms: Some(i64::MAX),
                ..filter()
            }),
            ""
        );
    }

    #[test]
    fn what_is_too_old_or_too_much_is_deleted_oldest_first() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(
            folder.path(),
            Retention {
                age: Duration::from_secs(3600),
                bytes: 1 << 20,
            },
        )
        .unwrap();
        store.record(CallRecord {
            at_ms: 5,
            ..call("old")
        });
        store.flush();
        assert_eq!(store.count_calls(), 0, "older than an hour");
        for n in 0..8_000 {
            store.record(CallRecord {
                gaps: vec![1; 100],
                ..call(&format!("{n}"))
            });
        }
        // On a slow disk the writer takes longer than a flush waits.
        let newest = || ids(&store.calls(&CallFilter::default(), 1).unwrap()).join("");
        for _ in 0..20 {
            store.flush();
            if newest() == "7999" {
                break;
            }
        }
        let left = store.count_calls();
        assert!((100..8_000).contains(&left), "{left}");
        assert_eq!(newest(), "7999");
    }

    #[test]
    fn keys_are_found_listed_and_revoked_once_and_for_all() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let key = KeyRecord {
            id: "k1".into(),
            name: "desk".into(),
            hash: [7; 32],
            scope: Scope::Manage,
            created_ms: 1,
            expires_ms: Some(9),
            revoked_ms: None,
            used_ms: None,
            per_minute: Some(60),
            at_once: None,
            weight: 3,
            endpoints: vec!["pierdesk".into(), "a/b".into()],
        };
        store.add_key(&key).unwrap();
        assert_eq!(store.key("k1").unwrap(), Some(key.clone()));
        assert!(store.add_key(&key).is_err());
        store.key_used("k1", 4);
        store.flush();
        assert!(store.revoke_key("k1", 5).unwrap() && store.revoke_key("k1", 6).unwrap());
        assert!(!store.revoke_key("k2", 6).unwrap());
        let kept = store.keys().unwrap().remove(0);
        assert_eq!((kept.revoked_ms, kept.used_ms), (Some(5), Some(4)));
    }

    #[test]
    fn history_comes_back_by_span_and_what_is_too_old_for_its_span_is_forgotten() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let point = |span: u32, at_ms: i64| HistoryPoint {
            endpoint: "pierdesk".into(),
            span,
            at_ms,
            queue_depth: 3,
            lanes_used: 1.5,
            busy_share: 0.25,
            ttft: Some([0.1, 0.2, 0.3]),
            ..HistoryPoint::default()
        };
        let hour = 3_600_000;
        for at in [0, hour, 2 * hour, 4 * hour] {
            store.record_history(point(5, at));
            store.record_history(point(60, at));
        }
        store.flush();
        assert_eq!(
            store.history("pierdesk", 5, 0).unwrap(),
            [point(5, hour), point(5, 2 * hour), point(5, 4 * hour)]
        );
        assert_eq!(
            store.history("pierdesk", 60, 2 * hour).unwrap(),
            [point(60, 2 * hour), point(60, 4 * hour)]
        );
        assert_eq!(store.history("another", 5, 0).unwrap(), []);
    }

    #[test]
    fn runs_are_kept_and_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let run = |id: &str, at_ms, document: &str| RunRecord {
            id: id.into(),
            at_ms,
            document: document.into(),
        };
        for run in [run("a", 1, "1"), run("b", 2, "2"), run("a", 1, "3")] {
            store.add_run(&run).unwrap();
        }
        assert_eq!(store.runs(9).unwrap(), [run("b", 2, "2"), run("a", 1, "3")]);
        store.add_run(&run("c", 3, r#"{"name": "wide"}"#)).unwrap();
        assert_eq!(
            store.runs_named("wide", 9).unwrap(),
            [run("c", 3, r#"{"name": "wide"}"#)]
        );
        assert_eq!(store.runs_named("narrow", 9).unwrap(), []);
        assert_eq!(store.run("b").unwrap(), Some(run("b", 2, "2")));
    }

    #[test]
    fn a_database_of_a_later_version_is_refused_not_damaged() {
        let folder = tempfile::tempdir().unwrap();
        drop(open(folder.path()));
        let connection = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
        connection.pragma_update(None, "user_version", 999).unwrap();
        drop(connection);
        let error = Store::open(folder.path(), Retention::default())
            .err()
            .unwrap()
            .to_string();
        assert!(error.contains("cannot use the database"), "{error}");
    }

    fn on_disk(folder: &Path) -> u64 {
        let files = std::fs::read_dir(folder)
            .unwrap()
            .map(|file| file.unwrap().metadata().unwrap().len());
        files.sum()
    }

    #[test]
    fn texts_go_before_calls_and_the_space_is_given_back() {
        let folder = tempfile::tempdir().unwrap();
        let retention = Retention {
            age: Duration::from_secs(3600),
            bytes: 4 << 20,
        };
        let store = Store::open(folder.path(), retention).unwrap();
        for n in 0..1_500 {
            let text = CallText {
                prompt: "x".repeat(64 << 10),
                answer: String::new(),
            };
            store.record(CallRecord {
                text: Some(text),
                ..call(&format!("{n:04}"))
            });
            if n % 100 == 0 {
                store.flush();
            }
        }
        store.flush();
        assert_eq!(store.count_calls(), 1_500, "no call was deleted for the texts' sake");
        assert!(store.call("1499").unwrap().unwrap().text.is_some());
        assert!(store.call("0001").unwrap().unwrap().text.is_none());
        assert_eq!(store.lost().count(), 0);
        let bytes = on_disk(folder.path());
        assert!(bytes < 32 << 20, "{bytes} of 94 MiB are left on disk");
    }

    #[test]
    fn what_else_fills_the_database_does_not_cost_the_history_of_calls() {
        let folder = tempfile::tempdir().unwrap();
        let retention = Retention {
            age: Duration::from_secs(3600),
            bytes: 1 << 20,
        };
        let store = Store::open(folder.path(), retention).unwrap();
        let document = "x".repeat(8 << 20);
        let run = RunRecord {
            id: "a".into(),
            at_ms: 1,
            document,
        };
        store.add_run(&run).unwrap();
        (0..3_000).for_each(|n| store.record(call(&format!("{n}"))));
        store.flush();
        assert!(store.count_calls() >= 1_000, "{}", store.count_calls());
    }

    #[test]
    fn a_record_that_the_database_refuses_is_lost_alone_and_counted() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let trigger =
            "CREATE TRIGGER no BEFORE INSERT ON calls WHEN NEW.id = 'bad' BEGIN SELECT raise(ABORT, 'no'); END";
        store.read(|connection| connection.execute_batch(trigger)).unwrap();
        ["a", "bad", "b"].iter().for_each(|id| store.record(call(id)));
        store.flush();
        assert_eq!((store.count_calls(), store.lost().count()), (2, 1));
        assert_eq!(ids(&store.calls(&CallFilter::default(), 9).unwrap()), ["b", "a"]);
    }

    #[test]
    fn records_wait_for_a_lock_of_another_process_and_the_inbox_is_bounded() {
        let folder = tempfile::tempdir().unwrap();
        let store = open(folder.path());
        let other = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        (0..20_000).for_each(|n| store.record(call(&format!("{n}"))));
        let lost = store.lost().count();
        assert!((2_000..4_000).contains(&lost), "{lost} of 20,000 had no room");
        other.execute_batch("ROLLBACK").unwrap();
        while store.count_calls() + lost < 20_000 {
            store.flush();
        }
    }

    #[test]
    fn a_folder_serves_one_service_at_a_time() {
        let folder = tempfile::tempdir().unwrap();
        let first = open(folder.path());
        let second = Store::open(folder.path(), Retention::default()).err().unwrap();
        assert!(second.to_string().contains("another service uses"), "{second}");
        assert!(Store::open_beside(folder.path()).is_ok());
        drop(first);
        drop(open(folder.path()));
    }

    #[test]
    fn a_database_that_could_not_give_space_back_is_rewritten_once() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("vastrelay.sqlite");
        let old = Connection::open(&path).unwrap();
        old.execute_batch("CREATE TABLE kept (x); INSERT INTO kept VALUES (7)")
            .unwrap();
        drop(old);
        drop(open(folder.path()));
        let mode = |query: &str| -> i64 {
            let connection = Connection::open(&path).unwrap();
            connection.query_row(query, [], |row| row.get(0)).unwrap()
        };
        assert_eq!((mode("PRAGMA auto_vacuum"), mode("SELECT x FROM kept")), (2, 7));
    }
}
