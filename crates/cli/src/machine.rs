//! This machine: its memory and its cores.

use nix::sys::resource::{Resource, getrlimit};
use std::thread::available_parallelism;
use sysinfo::{MemoryRefreshKind, RefreshKind, System};
use vastrelay_serving::Cores;

/// Returns the memory that this process may use, in bytes: the machine's, the container's, or most of its address space where
/// that is limited.
pub fn device_memory() -> usize {
    let system = look();
    let container = system.cgroup_limits().map_or(u64::MAX, |limits| limits.total_memory);
    let space = getrlimit(Resource::RLIMIT_AS).map_or(u64::MAX, |(soft, _)| soft);
    system.total_memory().min(container).min(space / 4 * 3) as usize
}

/// Returns how many cores this process may use.
pub fn machine_cores() -> Cores {
    Cores::of_machine(available_parallelism().map_or(1, usize::from))
}

/// Returns the memory, in bytes, that anybody may take now: what the machine and the container have left.
pub fn available_memory() -> usize {
    let system = look();
    // What the container's files have in the cache is given back when it is wanted.
    let container = system
        .cgroup_limits()
        .map_or(u64::MAX, |limits| limits.total_memory.saturating_sub(limits.rss));
    system.available_memory().min(container) as usize
}

fn look() -> System {
    let memory = RefreshKind::nothing().with_memory(MemoryRefreshKind::nothing().with_ram());
    System::new_with_specifics(memory)
}
