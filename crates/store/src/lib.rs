//! Records in SQLite.
//!
//! One writer thread takes records from a channel and commits them in batches, so that no request waits for the disk. The
//! database runs with a write-ahead log: a killed process loses what was not committed yet, and nothing else.
#![warn(missing_docs)]

pub mod calls;
pub mod history;
pub mod keys;
pub mod runs;
mod schema;
mod writer;

pub use calls::{CallFilter, CallRecord, CallText};
pub use history::HistoryPoint;
pub use keys::{KeyRecord, Scope};
pub use runs::RunRecord;

use rusqlite::Connection;
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

/// How long calls are kept. Keys and runs are kept until somebody removes them.
#[derive(Clone, Copy, Debug)]
pub struct Retention {
    /// Older calls are deleted.
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

/// The database of a service.
pub struct Store {
    path: PathBuf,
    reader: Mutex<Connection>,
    /// Apart from the other, as every request asks for its key.
    keys: Mutex<Connection>,
    writer: Writer,
}

impl Store {
    /// Opens `vastrelay.sqlite` in a folder, making both when they are not there.
    ///
    /// # Errors
    /// When the folder or the database cannot be made, opened or brought up to date.
    pub fn open(folder: &Path, retention: Retention) -> Result<Store, StoreError> {
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
        let keys = connect(&path).map_err(database)?;
        let calls = calls::count(&reader).map_err(database)?;
        Ok(Store {
            reader: Mutex::new(reader),
            keys: Mutex::new(keys),
            writer: Writer::start(connection, retention, calls),
            path,
        })
    }

    /// Hands over the record of a call; it is committed soon after.
    pub fn record(&self, call: CallRecord) {
        self.writer.send(Act::Record(Box::new(call)));
    }

    /// Notes that a key was used; it is committed soon after.
    pub fn key_used(&self, id: &str, at_ms: i64) {
        self.writer.send(Act::KeyUsed {
            id: id.to_owned(),
            at_ms,
        });
    }

    /// Hands over what a model was like over a stretch of time; it is committed soon after.
    pub fn record_history(&self, point: HistoryPoint) {
        self.writer.send(Act::History(Box::new(point)));
    }

    /// Returns what a model was like, in stretches of so many seconds that began at a moment or later, oldest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn history(&self, model: &str, span: u32, from_ms: i64) -> Result<Vec<HistoryPoint>, StoreError> {
        self.read(|connection| history::since(connection, model, span, from_ms))
    }

    /// Waits until everything handed over before is committed.
    pub fn flush(&self) {
        self.writer.flush();
    }

    /// Returns the number of calls recorded, as of the last commit.
    pub fn count_calls(&self) -> u64 {
        self.writer.calls.load(Ordering::Acquire)
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
        let connection = self.keys.lock().unwrap_or_else(PoisonError::into_inner);
        keys::find(&connection, id).map_err(|source| self.failed(source))
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

    fn open(folder: &Path) -> Store {
        Store::open(folder, Retention::default()).unwrap()
    }

    fn call(id: &str) -> CallRecord {
        CallRecord {
            id: id.into(),
            at_ms: milliseconds_since_1970(),
            model: "pierdesk".into(),
            status: 200,
            output_tokens: 7,
            ..CallRecord::default()
        }
    }

    fn ids(calls: &[CallRecord]) -> Vec<&str> {
        calls.iter().map(|call| call.id.as_str()).collect()
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
                model: Some("pierdesk".into()),
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
        store.flush();
        let left = store.count_calls();
        assert!((100..8_000).contains(&left), "{left}");
        assert_eq!(ids(&store.calls(&CallFilter::default(), 1).unwrap()), ["7999"]);
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
            model: "pierdesk".into(),
            span,
            at_ms,
            queue_depth: 3,
            lanes_used: 1.5,
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
        assert!(error.contains("schema"), "{error}");
    }
}
