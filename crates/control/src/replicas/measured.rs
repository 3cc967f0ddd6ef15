//! A replica with its measurements.

use crate::replicas::recent::Recent;
use vastrelay_engine::EngineStatus;
use vastrelay_serving::Replica;
use vastrelay_store::milliseconds_since_1970;

/// A replica with its measurements of the last seconds.
pub struct MeasuredReplica {
    /// The replica.
    pub replica: Replica,
    /// How it stood when it came to its place, and when that was, in milliseconds since 1970.
    pub first: (i64, EngineStatus),
    /// Its measurements of the last seconds.
    pub recent: Recent,
}

impl MeasuredReplica {
    /// Returns a replica with its current measurements.
    pub fn new(replica: Replica) -> MeasuredReplica {
        let (first, recent) = (replica.generate.status(), Recent::default());
        recent.note_totals(first.prefill_tokens, first.output_tokens);
        MeasuredReplica {
            replica,
            first: (milliseconds_since_1970(), first),
            recent,
        }
    }

    /// Returns whether it has stopped for good.
    pub fn has_failed(&self) -> bool {
        self.replica.generate.status().failure.is_some()
    }
}
