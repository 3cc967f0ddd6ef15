//! What happened in each step.

use crate::scheduler::{PreemptionCause, PrefillOrder, RowKind};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;

/// One step, as it was.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct StepRecord {
    /// Its number, from 1 on.
    pub number: u64,
    /// Seconds since the engine started.
    pub at: f64,
    /// Seconds that the step took, planning and device.
    pub duration: f64,
    /// Who took part.
    pub lanes: Vec<LaneRecord>,
    /// Who came in.
    pub admitted: Vec<AdmittedRecord>,
    /// Who lost its place, and why.
    pub preempted: Vec<(u64, PreemptionCause)>,
    /// Sequences that waited meanwhile.
    pub waiting: usize,
    /// KV pages held after planning.
    pub pages_used: usize,
}

impl StepRecord {
    /// Makes its lists empty; they keep their memory.
    pub fn clear(&mut self) {
        self.lanes.clear();
        self.admitted.clear();
        self.preempted.clear();
    }
}

/// A sequence that came into the batch.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AdmittedRecord {
    /// Which sequence.
    pub sequence: u64,
    /// The name of its request.
    pub request: String,
}

/// A lane's part in a step.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LaneRecord {
    /// Which lane.
    pub lane: usize,
    /// Whose it was.
    pub sequence: u64,
    /// What was done.
    pub kind: RowKind,
    /// Tokens processed.
    pub tokens: usize,
    /// Tokens found in the cache, in the step that admitted it.
    pub reused: usize,
    /// Why it came before other prompts, for a part of one.
    pub order: Option<PrefillOrder>,
}

/// The last records, oldest first.
pub struct StepRing {
    records: VecDeque<StepRecord>,
    capacity: usize,
}

impl StepRing {
    /// Returns a ring for so many records.
    pub fn new(capacity: usize) -> StepRing {
        StepRing {
            records: VecDeque::with_capacity(capacity),
            capacity,
        }
    }

    /// Adds a record; returns the oldest when the ring is full, whose memory may serve another one.
    pub fn push(&mut self, record: StepRecord) -> Option<StepRecord> {
        let is_full = self.records.len() == self.capacity;
        let oldest = if is_full { self.records.pop_front() } else { None };
        self.records.push_back(record);
        oldest
    }

    /// Returns the records after a step number, the newest `most` of them.
    pub fn after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        let newer = self.records.iter().filter(|record| record.number > number).count();
        self.records
            .iter()
            .skip(self.records.len() - newer.min(most))
            .cloned()
            .collect()
    }
}
