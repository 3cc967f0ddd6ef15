//! How long records are kept.

use std::time::Duration;

/// How long records are kept. Keys stay until a caller revokes them.
#[derive(Clone, Copy, Debug)]
pub struct Retention {
    /// Older calls and events are deleted.
    pub age: Duration,
    /// When the database has more bytes without load tests, the oldest texts are deleted, then the oldest calls.
    pub bytes: u64,
    /// When load tests have more bytes, the oldest ones are deleted.
    pub run_bytes: u64,
}

impl Default for Retention {
    /// Thirty days, one gibibyte, and half a gibibyte of load tests.
    fn default() -> Retention {
        Retention {
            age: Duration::from_secs(30 * 24 * 3600),
            bytes: 1 << 30,
            run_bytes: 512 << 20,
        }
    }
}
