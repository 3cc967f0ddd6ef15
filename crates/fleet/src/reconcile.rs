//! What is done so that an endpoint comes to be what somebody wants it to be.

use crate::roster::Found;
use crate::state::State;
use std::time::Duration;

/// Time between two tries to start what could not be started for a reason that may pass.
pub const AGAIN: Duration = Duration::from_secs(5);

/// What somebody wants of an endpoint. It is kept, so that the next service knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// To be served.
    Served,
    /// To rest until somebody starts it.
    Stopped,
    /// To rest until somebody calls it.
    Parked,
}

/// What is done about an endpoint next, unless somebody changes it just now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Nothing: it is what it is to be, is on its way, or cannot be that and says why.
    Nothing,
    /// It is started.
    Start,
    /// It rests from now on.
    Rest(State),
}

/// Returns what is done about an endpoint of which so much is known, and that rests since so long, where it does.
pub fn next_step<E, M>(wanted: Wanted, found: &Found<'_, E, M>, rests_for: Duration) -> Step {
    match (wanted, found) {
        (Wanted::Served, Found::Unknown) => Step::Start,
        (Wanted::Served, Found::Resting(resting))
            if resting.state == State::Failed && resting.is_vain && rests_for >= AGAIN =>
        {
            Step::Start
        }
        (Wanted::Stopped, Found::Unknown) => Step::Rest(State::Stopped),
        (Wanted::Parked, Found::Unknown) => Step::Rest(State::Parked),
        _ => Step::Nothing,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::roster::Resting;

    #[test]
    fn what_is_not_as_it_is_to_be_is_brought_there() {
        let step = |wanted, found| next_step::<(), u32>(wanted, &found, Duration::ZERO);
        for (wanted, first) in [
            (Wanted::Served, Step::Start),
            (Wanted::Stopped, Step::Rest(State::Stopped)),
            (Wanted::Parked, Step::Rest(State::Parked)),
        ] {
            assert_eq!(step(wanted, Found::Unknown), first);
            assert_eq!(step(wanted, Found::Served(&())), Step::Nothing);
            assert_eq!(step(wanted, Found::Starting), Step::Nothing);
            assert_eq!(step(wanted, Found::Parked), Step::Nothing);
        }
    }

    #[test]
    fn what_failed_for_a_reason_that_may_pass_is_tried_again_after_a_while() {
        let resting = |state, is_vain| Resting {
            state,
            why: "so".into(),
            since: 0,
            is_vain,
            longest_wait: None,
        };
        for (state, is_vain, seconds, wanted) in [
            (State::Failed, true, 5, Step::Start),
            (State::Failed, true, 4, Step::Nothing),
            (State::Failed, false, 60, Step::Nothing),
            (State::Stopped, true, 60, Step::Nothing),
        ] {
            let resting = resting(state, is_vain);
            let step = next_step::<(), u32>(Wanted::Served, &Found::Resting(&resting), Duration::from_secs(seconds));
            assert_eq!(step, wanted, "{state:?} {is_vain} {seconds}");
            let stopped =
                next_step::<(), u32>(Wanted::Stopped, &Found::Resting(&resting), Duration::from_secs(seconds));
            assert_eq!(stopped, Step::Nothing);
        }
    }
}
