//! Keys, and their look-up.

use crate::database::Store;
use crate::error::StoreError;
use crate::keys::{self, KeyRecord};
use crate::queue::Record;

impl Store {
    /// Notes that a key was used; it is committed soon after.
    pub fn key_used(&self, id: &str, at_ms: i64) {
        self.writer.record(Record::KeyUsed {
            id: id.to_owned(),
            at_ms,
        });
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

    /// Looks a key up by its id on a separate thread, and delivers the result there.
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
}
