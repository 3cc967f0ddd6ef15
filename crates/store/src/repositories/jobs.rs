//! Jobs.

use crate::database::Store;
use crate::error::StoreError;
use crate::jobs::{self, JobRecord};
use std::sync::atomic::Ordering;
use vastrelay_wire::time::milliseconds_since_1970;

impl Store {
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
}
