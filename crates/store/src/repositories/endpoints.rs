//! Endpoints as they are desired, and their releases.

use crate::changes;
use crate::database::Store;
use crate::endpoints::{self, StoredEndpoint, StoredState};
use crate::error::StoreError;
use crate::releases::{self, ReleaseEntry};

impl Store {
    /// Returns the releases of an endpoint, newest first.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn releases(&self, endpoint: &str) -> Result<Vec<ReleaseEntry>, StoreError> {
        self.read(|connection| releases::all(connection, endpoint))
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

    /// Returns the desired state of all endpoints, in the order of their names.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn stored_endpoints(&self) -> Result<Vec<StoredEndpoint>, StoreError> {
        self.read(endpoints::all)
    }

    /// Returns the desired state of an endpoint.
    ///
    /// # Errors
    /// SQLite's own.
    pub fn stored_endpoint(&self, name: &str) -> Result<Option<StoredEndpoint>, StoreError> {
        self.read(|connection| endpoints::one(connection, name))
    }
}
