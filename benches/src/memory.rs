//! What memory is free.

use sysinfo::System;

/// Left to the system and to what else runs.
const RESERVE: usize = 1 << 30;

/// Returns whether so many bytes are free, and some more.
pub fn fits(bytes: usize) -> bool {
    let mut system = System::new();
    system.refresh_memory();
    let limit = system.cgroup_limits().map_or(u64::MAX, |limits| limits.free_memory);
    let free = system.available_memory().min(limit);
    bytes + RESERVE <= usize::try_from(free).unwrap_or(usize::MAX)
}
