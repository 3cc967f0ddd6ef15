//! Why records cannot be kept or read.

use crate::writer;
use std::path::PathBuf;

/// Why records cannot be kept or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The folder cannot be made.
    #[error("cannot create the folder {path}: {source}")]
    Folder {
        /// The folder.
        path: PathBuf,
        /// The system's error.
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
        /// SQLite's error.
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
