//! The time now, as records have it.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Returns the time in milliseconds since 1970.
pub fn milliseconds_since_1970() -> i64 {
    now().as_millis() as i64
}

/// Returns the time in seconds since 1970.
pub fn seconds_since_1970() -> u64 {
    now().as_secs()
}

/// A clock before 1970 counts as 1970.
fn now() -> Duration {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default()
}
