//! How many sequences the memory of a replica holds, as it goes over the wire.

use vastrelay_planner::MemoryPlan;
use vastrelay_wire::manage::{CapacityStatus, SequenceRoom};

/// Returns the sequences that run at once with a plan, and those that its memory limit could hold.
pub fn capacity_status(memory: &MemoryPlan) -> CapacityStatus {
    CapacityStatus {
        full: sequence_room(memory.full_sequences()),
        typical: sequence_room(memory.typical_sequences()),
        full_batch_pages: memory.full_batch_pages(),
        full_batch_bytes: memory.full_batch_bytes(),
    }
}

fn sequence_room(room: vastrelay_planner::SequenceRoom) -> SequenceRoom {
    SequenceRoom {
        tokens: room.tokens,
        at_once: room.at_once,
        in_pool: room.in_pool,
        in_rest: room.in_rest,
    }
}
