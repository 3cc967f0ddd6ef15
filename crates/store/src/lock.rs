//! One service for one folder.

use crate::StoreError;
use std::fs::{File, OpenOptions, TryLockError};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// A lock on a data folder, given back when it is dropped or the process ends.
pub(crate) struct DataLock(File);

impl DataLock {
    pub fn take(folder: &Path) -> Result<DataLock, StoreError> {
        let path = folder.join("service.lock");
        let failed = |source| StoreError::Folder {
            path: path.clone(),
            source,
        };
        let mut options = OpenOptions::new();
        let file = options
            .create(true)
            .append(true)
            .mode(0o600)
            .open(&path)
            .map_err(failed)?;
        match file.try_lock() {
            Ok(()) => Ok(DataLock(file)),
            Err(TryLockError::WouldBlock) => Err(StoreError::InUse {
                path: folder.to_owned(),
            }),
            Err(TryLockError::Error(source)) => Err(failed(source)),
        }
    }
}

impl Drop for DataLock {
    fn drop(&mut self) {
        let _ = self.0.unlock();
    }
}
