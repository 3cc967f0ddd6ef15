//! What time it is.

use std::time::{SystemTime, UNIX_EPOCH};

/// Returns the time in seconds since 1970.
pub(crate) fn seconds_since_1970() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |time| time.as_secs())
}
