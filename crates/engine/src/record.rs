//! What happened in each step.

use crate::scheduler::{PreemptionCause, RowKind};
use serde::Serialize;
use std::collections::VecDeque;

/// One step, as it was.
#[derive(Clone, Debug, Default, Serialize)]
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

/// A sequence that came into the batch.
#[derive(Clone, Debug, Serialize)]
pub struct AdmittedRecord {
    /// Which sequence.
    pub sequence: u64,
    /// The name of its request.
    pub request: String,
}

/// A lane's part in a step.
#[derive(Clone, Copy, Debug, Serialize)]
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

    /// Adds a record with empty lists, for the caller to fill in. When the ring is full, the oldest makes room, and its lists' memory is
    /// used again.
    pub fn add(&mut self) -> &mut StepRecord {
        let mut record = StepRecord::default();
        if self.records.len() == self.capacity {
            record = self.records.pop_front().unwrap_or_default();
        }
        record.lanes.clear();
        record.admitted.clear();
        record.preempted.clear();
        self.records.push_back(record);
        self.records.back_mut().expect("it was added just now")
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
