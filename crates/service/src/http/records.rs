//! The database, as those use it who have others to answer.

use crate::http::problem::Problem;
use actix_web::web;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::time::timeout;
use vastrelay_store::{Store, StoreError};

/// Most uses of the database at the same time, key look-ups and records aside.
const MOST_AT_ONCE: usize = 16;
/// Longest wait to use it.
const LONGEST_WAIT: Duration = Duration::from_secs(5);

/// Calls, keys, runs and history.
pub struct Records {
    /// Where they are kept.
    pub store: Arc<Store>,
    permits: Semaphore,
}

impl Records {
    /// Returns the records of a database.
    pub fn new(store: Store) -> Records {
        Records {
            store: Arc::new(store),
            permits: Semaphore::new(MOST_AT_ONCE),
        }
    }

    /// Uses the database on a thread that may wait for it.
    ///
    /// # Errors
    /// 503 when it is busy, 500 when it fails.
    pub(crate) async fn query<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, Problem> {
        let permit = timeout(LONGEST_WAIT, self.permits.acquire()).await;
        let _permit = permit.map_err(|_| Problem::database_busy())?;
        let records = self.clone();
        let done = web::block(move || work(&records.store)).await;
        done.map_err(|error| Problem::internal(error.to_string()))?
            .map_err(|error| match error.is_busy() {
                true => Problem::database_busy(),
                false => Problem::internal(error.to_string()),
            })
    }
}
