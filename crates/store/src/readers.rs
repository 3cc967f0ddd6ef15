//! Connections that only read. With the write-ahead log they wait neither for the writer nor for each other.

use rusqlite::{Connection, OpenFlags};
use std::path::Path;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

/// Connections of the pool.
const CONNECTIONS: usize = 4;
/// Longest wait for a connection.
const LONGEST_WAIT: Duration = Duration::from_secs(5);

/// Opens a connection that cannot change the database.
pub(crate) fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags)?;
    connection.busy_timeout(Duration::from_secs(5))?;
    Ok(connection)
}

/// A pool of them.
pub(crate) struct Readers {
    idle: Mutex<Vec<Connection>>,
    given_back: Condvar,
}

impl Readers {
    pub fn open(path: &Path) -> rusqlite::Result<Readers> {
        let idle: rusqlite::Result<Vec<_>> = (0..CONNECTIONS).map(|_| connect(path)).collect();
        Ok(Readers {
            idle: Mutex::new(idle?),
            given_back: Condvar::new(),
        })
    }

    /// Reads from one state of the database, however many statements that takes. Returns nothing where no connection became free.
    pub fn read<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Option<rusqlite::Result<T>> {
        let borrowed = self.borrow()?;
        let connection = borrowed.connection.as_ref().expect("it is given back at the end only");
        let snapshot = connection.unchecked_transaction();
        Some(snapshot.and_then(|snapshot| query(&snapshot)))
    }

    fn borrow(&self) -> Option<Borrowed<'_>> {
        let idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        let found = self
            .given_back
            .wait_timeout_while(idle, LONGEST_WAIT, |idle| idle.is_empty());
        let connection = found.unwrap_or_else(PoisonError::into_inner).0.pop()?;
        Some(Borrowed {
            pool: self,
            connection: Some(connection),
        })
    }
}

/// A connection, which goes back to its pool also when a query panics.
struct Borrowed<'a> {
    pool: &'a Readers,
    connection: Option<Connection>,
}

impl Drop for Borrowed<'_> {
    fn drop(&mut self) {
        let mut idle = self.pool.idle.lock().unwrap_or_else(PoisonError::into_inner);
        idle.extend(self.connection.take());
        self.pool.given_back.notify_one();
    }
}
