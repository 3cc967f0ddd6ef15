//! Builds, their users, and the digests of files.

use crate::builds::{self, BuildRecord};
use crate::database::Store;
use crate::error::StoreError;
use vastrelay_wire::time::milliseconds_since_1970;

impl Store {
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
}
