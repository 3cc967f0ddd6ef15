//! When an endpoint is started, parked and stopped without anybody doing it.

use serde::Serialize;
use std::time::Duration;

/// How long an endpoint is there; any time where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Upkeep {
    /// Longest that a replica may take to start.
    pub longest_start: Option<Duration>,
    /// How long nobody calls until it is parked.
    pub idle_after: Option<Duration>,
    /// How long after its start it stops by itself.
    pub stop_after: Option<Duration>,
}

/// What is due for an endpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Due {
    /// To be parked: nobody has called for so long.
    Park,
    /// To be stopped: it has been there for as long as it was to be.
    Stop,
}

impl Upkeep {
    /// Returns what is due for an endpoint that was started so long ago and was last of use so long ago. One that `is_busy` is not idle.
    pub fn due(&self, started: Duration, used: Duration, is_busy: bool) -> Option<Due> {
        if self.stop_after.is_some_and(|after| started >= after) {
            return Some(Due::Stop);
        }
        let is_idle = !is_busy && self.idle_after.is_some_and(|after| used >= after);
        is_idle.then_some(Due::Park)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_parked_when_idle_and_stopped_when_its_time_is_over() {
        let s = Duration::from_secs;
        let both = Upkeep {
            idle_after: Some(s(10)),
            stop_after: Some(s(100)),
            ..Upkeep::default()
        };
        for (started, used, is_busy, due) in [
            (50, 9, false, None),
            (50, 10, false, Some(Due::Park)),
            (50, 10, true, None),
            (100, 0, true, Some(Due::Stop)),
            (100, 99, false, Some(Due::Stop)),
        ] {
            assert_eq!(
                both.due(s(started), s(used), is_busy),
                due,
                "{started} {used} {is_busy}"
            );
        }
        assert_eq!(Upkeep::default().due(s(1 << 40), s(1 << 40), false), None);
    }
}
