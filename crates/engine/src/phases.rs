//! Where the time of a step goes.

use std::time::{Duration, Instant};

/// A part of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepPhase {
    /// Page copies, tables and embeddings.
    Begin,
    /// Queries, keys and values, the norm before them included.
    Qkv,
    /// Rotating, and storing keys and values.
    Store,
    /// Attention over the pages.
    Attention,
    /// Attention's way back to the stream.
    Output,
    /// Gate and up of the MLP, the norm before them included; with experts, the whole MLP.
    GateUp,
    /// The gate, and the MLP's way back to the stream.
    Down,
    /// Logits, and log-probabilities of prompts.
    Head,
    /// Choosing tokens.
    Choose,
}

impl StepPhase {
    /// All in their order.
    pub const ALL: [StepPhase; 9] = [
        StepPhase::Begin,
        StepPhase::Qkv,
        StepPhase::Store,
        StepPhase::Attention,
        StepPhase::Output,
        StepPhase::GateUp,
        StepPhase::Down,
        StepPhase::Head,
        StepPhase::Choose,
    ];

    /// Returns its name.
    pub fn name(self) -> &'static str {
        match self {
            StepPhase::Begin => "embedding",
            StepPhase::Qkv => "queries, keys, values",
            StepPhase::Store => "storing keys and values",
            StepPhase::Attention => "attention",
            StepPhase::Output => "attention output",
            StepPhase::GateUp => "MLP gate and up",
            StepPhase::Down => "MLP down",
            StepPhase::Head => "head",
            StepPhase::Choose => "choosing tokens",
        }
    }
}

/// How long each part of a step took.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PhaseTimes([Duration; StepPhase::ALL.len()]);

impl PhaseTimes {
    /// Returns how long a part took.
    pub fn of(&self, phase: StepPhase) -> Duration {
        self.0[phase as usize]
    }
}

/// Measures the parts of a step, one after the other.
pub(crate) struct Clock {
    last: Instant,
    times: PhaseTimes,
}

impl Clock {
    pub fn start() -> Clock {
        Clock {
            last: Instant::now(),
            times: PhaseTimes::default(),
        }
    }

    /// Counts the time since the last part for this one.
    pub fn lap(&mut self, phase: StepPhase) {
        let now = Instant::now();
        self.times.0[phase as usize] += now - self.last;
        self.last = now;
    }

    pub fn times(&self) -> PhaseTimes {
        self.times
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_of_a_part_add_up_and_all_of_them_are_the_whole() {
        let mut clock = Clock::start();
        let begun = clock.last;
        for phase in [StepPhase::Qkv, StepPhase::Attention, StepPhase::Qkv] {
            clock.lap(phase);
        }
        let times = clock.times();
        let total: Duration = StepPhase::ALL.into_iter().map(|phase| times.of(phase)).sum();
        assert_eq!(total, clock.last - begun);
        assert_eq!(times.of(StepPhase::Qkv) + times.of(StepPhase::Attention), total);
        assert_eq!(StepPhase::ALL.map(|phase| phase as usize), [0, 1, 2, 3, 4, 5, 6, 7, 8]);
    }
}
