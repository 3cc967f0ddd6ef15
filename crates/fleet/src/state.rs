//! In which state an endpoint is, by those of its replicas, and a service by those of its endpoints.

/// A state; the same word stands wherever one is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Somebody has stopped it; what it is to be is kept.
    Stopped,
    /// It has no replica; the next call unparks it.
    Parked,
    /// It is being started.
    Starting,
    /// It serves.
    Ready,
    /// It serves, but not as it should.
    Degraded,
    /// It takes no more, and ends what it has.
    Draining,
    /// It cannot serve.
    Failed,
}

impl State {
    /// Returns its word.
    pub fn name(self) -> &'static str {
        match self {
            State::Stopped => "stopped",
            State::Parked => "parked",
            State::Starting => "starting",
            State::Ready => "ready",
            State::Degraded => "degraded",
            State::Draining => "draining",
            State::Failed => "failed",
        }
    }

    /// Returns whether requests are answered.
    pub fn serves(self) -> bool {
        matches!(self, State::Ready | State::Degraded | State::Parked)
    }
}

/// Returns the state of an endpoint with these replicas: it serves as long as one of them does; when none does, it is what the one is that
/// comes back first.
pub fn of_replicas(replicas: &[State]) -> State {
    let has = |state| replicas.contains(&state);
    match (has(State::Ready), has(State::Starting), has(State::Draining)) {
        (true, ..) if replicas.iter().all(|state| *state == State::Ready) => State::Ready,
        (true, ..) => State::Degraded,
        (false, true, _) => State::Starting,
        (false, false, true) => State::Draining,
        (false, false, false) => State::Failed,
    }
}

/// Returns the state of a service with these endpoints, of which more may be `expected`. Those that somebody has stopped do not count; those that
/// are parked are as good as ready.
pub fn of_endpoints(endpoints: &[State], expected: bool) -> State {
    let counting: Vec<State> = endpoints
        .iter()
        .copied()
        .filter(|state| *state != State::Stopped)
        .map(|state| if state == State::Parked { State::Ready } else { state })
        .collect();
    let all = |state: State| counting.iter().all(|other| *other == state);
    let serves = counting.iter().any(|state| state.serves());
    let starts = expected
        || counting
            .iter()
            .any(|state| matches!(state, State::Starting | State::Draining));
    match (serves, starts) {
        (false, true) => State::Starting,
        (_, false) if all(State::Ready) => State::Ready,
        (false, false) if all(State::Failed) => State::Failed,
        _ => State::Degraded,
    }
}

#[cfg(test)]
mod tests {
    use super::State::{Degraded, Draining, Failed, Parked, Ready, Starting, Stopped};
    use super::*;

    #[test]
    fn an_endpoint_serves_as_long_as_one_of_its_replicas_does() {
        for (replicas, state) in [
            (vec![Ready, Ready], Ready),
            (vec![Ready, Starting], Degraded),
            (vec![Failed, Ready, Draining], Degraded),
            (vec![Starting, Failed], Starting),
            (vec![Draining, Failed], Draining),
            (vec![Failed], Failed),
            (vec![], Failed),
        ] {
            assert_eq!(of_replicas(&replicas), state, "{replicas:?}");
        }
    }

    #[test]
    fn a_service_is_ready_when_all_are_that_nobody_has_stopped() {
        for (endpoints, expected, state) in [
            (vec![], false, Ready),
            (vec![], true, Starting),
            (vec![Stopped], false, Ready),
            (vec![Ready, Stopped], false, Ready),
            (vec![Parked, Stopped], false, Ready),
            (vec![Parked, Failed], false, Degraded),
            (vec![Parked, Starting], false, Degraded),
            (vec![Ready], true, Degraded),
            (vec![Ready, Failed], false, Degraded),
            (vec![Degraded], false, Degraded),
            (vec![Draining], false, Starting),
            (vec![Failed, Stopped], false, Failed),
            (vec![Failed, Starting], false, Starting),
        ] {
            assert_eq!(of_endpoints(&endpoints, expected), state, "{endpoints:?}");
        }
    }
}
