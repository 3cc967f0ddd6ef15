//! The phases of a cold start, as they come.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_serving::worker::protocol::StartPhase;
use vastrelay_wire::manage::PhaseTime;

/// The phase before a worker is started: its endpoint is planned, and room is found for it.
const WAITING: &str = "waiting for device";

const BUILDING: &str = "building";

/// When an endpoint was wanted, and how long its build took before, where one was made.
pub type StartOrigin = (Instant, Option<Duration>);

/// Notes when each phase of a start begins. Clones share it.
#[derive(Clone)]
pub struct PhaseClock(Arc<Mutex<Vec<(&'static str, Instant)>>>);

impl PhaseClock {
    /// Begins with a worker that is started now, and was wanted before.
    pub fn start(wanted: Option<StartOrigin>) -> PhaseClock {
        let mut phases: Vec<(&str, Instant)> = Vec::new();
        if let Some((wanted, built)) = wanted {
            let started = built.and_then(|built| wanted.checked_sub(built));
            phases.extend(started.map(|started| (BUILDING, started)));
            phases.push((WAITING, wanted));
        }
        phases.push((StartPhase::StartingWorker.name(), Instant::now()));
        PhaseClock(Arc::new(Mutex::new(phases)))
    }

    /// Notes that a phase begins.
    pub fn enters(&self, phase: StartPhase) {
        let mut phases = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        phases.push((phase.name(), Instant::now()));
    }

    /// Returns the phases with their durations, the last of which ends now.
    pub fn times(&self) -> Vec<PhaseTime> {
        let phases = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let ends = phases
            .iter()
            .skip(1)
            .map(|(_, started)| *started)
            .chain([Instant::now()]);
        let time = |((phase, started), end): (&(&str, Instant), Instant)| PhaseTime {
            phase: (*phase).into(),
            seconds: end.saturating_duration_since(*started).as_secs_f64(),
        };
        phases.iter().zip(ends).map(time).collect()
    }
}
