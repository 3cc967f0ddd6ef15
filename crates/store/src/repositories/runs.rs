//! Load tests.

use crate::database::Store;
use crate::error::StoreError;
use crate::runs::{self, RunRecord};

impl Store {
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
}
