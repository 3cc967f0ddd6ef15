//! Which endpoints there are: those that are served, those that rest, those that will be there soon, and who changes which.
//!
//! `E` is what is served, `M` a moment.

use crate::state::State;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// The endpoints, by name. Each is served or rests; one that rests may be announced.
#[derive(Clone, Debug)]
pub struct Roster<E, M> {
    served: BTreeMap<String, E>,
    resting: BTreeMap<String, Resting<M>>,
    /// Those that will be there soon: nobody knows yet what they need.
    announced: BTreeSet<String>,
    /// Those that somebody deploys, stops, starts, parks or removes just now.
    changing: BTreeSet<String>,
}

/// An endpoint that is known and not served.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resting<M> {
    /// [`State::Stopped`], [`State::Parked`], or [`State::Failed`] where it cannot be started.
    pub state: State,
    /// Why.
    pub why: String,
    /// Since when.
    pub since: M,
    /// Whether it was tried to start it, in vain, for a reason that may pass.
    pub is_vain: bool,
    /// Longest that a call waits while it is started.
    pub longest_wait: Option<Duration>,
}

/// What is known of a name.
#[derive(Debug, PartialEq, Eq)]
pub enum Found<'a, E, M> {
    /// It is served.
    Served(&'a E),
    /// A call has to start it, or waits until somebody else has.
    Parked,
    /// It will be there soon.
    Starting,
    /// It is not served until somebody starts it.
    Resting(&'a Resting<M>),
    /// Nothing.
    Unknown,
}

/// What a call does about an endpoint that is parked, or was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rouse {
    /// Nothing: it is there.
    There,
    /// It waits for a change: somebody has it in hand.
    Wait,
    /// It starts it; others wait meanwhile.
    Start,
    /// It gives up: it is not to be started, or could not be since the call waits.
    GiveUp,
}

impl<E, M> Default for Roster<E, M> {
    fn default() -> Roster<E, M> {
        Roster {
            served: BTreeMap::new(),
            resting: BTreeMap::new(),
            announced: BTreeSet::new(),
            changing: BTreeSet::new(),
        }
    }
}

impl<E, M: Copy + Ord> Roster<E, M> {
    /// Returns those that are served, in the order of their names.
    pub fn served(&self) -> &BTreeMap<String, E> {
        &self.served
    }

    /// Returns those that are not, in the order of their names.
    pub fn resting(&self) -> &BTreeMap<String, Resting<M>> {
        &self.resting
    }

    /// Returns what is known of a name.
    pub fn find(&self, name: &str) -> Found<'_, E, M> {
        if let Some(served) = self.served.get(name) {
            return Found::Served(served);
        }
        match self.resting.get(name) {
            Some(resting) if resting.state == State::Parked => Found::Parked,
            _ if self.announced.contains(name) => Found::Starting,
            Some(resting) => Found::Resting(resting),
            None => Found::Unknown,
        }
    }

    /// Returns the state of one, which is `of` what is served.
    pub fn state_of(&self, name: &str, of: impl FnOnce(&E) -> State) -> Option<State> {
        match (self.served.get(name), self.resting.get(name)) {
            (Some(served), _) => Some(of(served)),
            (None, _) if self.announced.contains(name) => Some(State::Starting),
            (None, resting) => resting.map(|resting| resting.state),
        }
    }

    /// Says that one will be there soon.
    pub fn announce(&mut self, name: &str) {
        self.announced.insert(name.to_owned());
    }

    /// Says that nobody needs to wait for one that was announced.
    pub fn withdraw(&mut self, name: &str) {
        self.announced.remove(name);
    }

    /// Returns whether any will be there soon.
    pub fn expects_more(&self) -> bool {
        !self.announced.is_empty()
    }

    /// Serves one from now on; returns what was served in its place.
    pub fn put(&mut self, name: &str, served: E) -> Option<E> {
        self.announced.remove(name);
        self.resting.remove(name);
        self.served.insert(name.to_owned(), served)
    }

    /// Lets one rest from now on; returns what was served.
    pub fn rest(&mut self, name: &str, resting: Resting<M>) -> Option<E> {
        self.announced.remove(name);
        self.resting.insert(name.to_owned(), resting);
        self.served.remove(name)
    }

    /// Lets one rest from now on if what is served is idle; returns that.
    pub fn rest_if(&mut self, name: &str, resting: Resting<M>, is_idle: impl FnOnce(&E) -> bool) -> Option<E> {
        let is_idle = self.served.get(name).is_some_and(is_idle);
        is_idle.then(|| self.rest(name, resting)).flatten()
    }

    /// Takes one away that is served; returns it. What was announced meanwhile stays so.
    pub fn take(&mut self, name: &str) -> Option<E> {
        self.served.remove(name)
    }

    /// Forgets one that rests, and that it was announced; returns whether there was one.
    pub fn forget(&mut self, name: &str) -> bool {
        self.announced.remove(name);
        self.resting.remove(name).is_some()
    }

    /// Keeps others from changing one; returns whether nobody does already.
    pub fn change(&mut self, name: &str) -> bool {
        self.changing.insert(name.to_owned())
    }

    /// Lets others change one again.
    pub fn changed(&mut self, name: &str) {
        self.changing.remove(name);
    }

    /// Returns what a call that has waited since a moment does about one that is parked, or was.
    pub fn rouse(&mut self, name: &str, since: M) -> Rouse {
        if self.served.contains_key(name) {
            return Rouse::There;
        }
        if self.announced.contains(name) || self.changing.contains(name) {
            return Rouse::Wait;
        }
        match self.resting.get(name) {
            Some(resting) if resting.state == State::Parked && !(resting.is_vain && resting.since >= since) => {
                self.announce(name);
                Rouse::Start
            }
            _ => Rouse::GiveUp,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn resting(state: State, since: u32, is_vain: bool) -> Resting<u32> {
        Resting {
            state,
            why: "so".into(),
            since,
            is_vain,
            longest_wait: None,
        }
    }

    #[test]
    fn one_call_starts_what_is_parked_and_the_others_wait_for_it() {
        let mut roster: Roster<&str, u32> = Roster::default();
        assert_eq!(roster.rouse("desk", 0), Rouse::GiveUp);
        roster.rest("desk", resting(State::Parked, 1, false));
        assert_eq!(roster.find("desk"), Found::Parked);
        assert_eq!(roster.rouse("desk", 2), Rouse::Start);
        assert_eq!(
            (roster.rouse("desk", 2), roster.rouse("desk", 3)),
            (Rouse::Wait, Rouse::Wait)
        );
        assert_eq!(roster.state_of("desk", |_| State::Ready), Some(State::Starting));
        assert_eq!(roster.find("desk"), Found::Parked, "calls go on to wait");
        // In vain: who has waited gives up, who comes later tries again.
        roster.rest("desk", resting(State::Parked, 5, true));
        assert_eq!(roster.rouse("desk", 2), Rouse::GiveUp);
        assert_eq!(roster.rouse("desk", 6), Rouse::Start);
        assert_eq!(roster.put("desk", "first"), None);
        assert_eq!(roster.rouse("desk", 6), Rouse::There);
        // While somebody changes it, calls wait.
        assert!(roster.change("desk") && !roster.change("desk"));
        assert_eq!(roster.rest("desk", resting(State::Parked, 7, false)), Some("first"));
        assert_eq!(roster.rouse("desk", 8), Rouse::Wait);
        roster.changed("desk");
        assert_eq!(roster.rouse("desk", 8), Rouse::Start);
        roster.rest("desk", resting(State::Stopped, 9, false));
        assert_eq!(roster.rouse("desk", 8), Rouse::GiveUp);
    }

    #[test]
    fn a_name_is_found_in_one_way() {
        let mut roster: Roster<&str, u32> = Roster::default();
        assert_eq!(roster.find("desk"), Found::Unknown);
        roster.announce("desk");
        assert_eq!((roster.find("desk"), roster.expects_more()), (Found::Starting, true));
        roster.withdraw("desk");
        assert_eq!(roster.find("desk"), Found::Unknown);
        let failed = resting(State::Failed, 1, false);
        roster.rest("desk", failed.clone());
        assert_eq!(roster.find("desk"), Found::Resting(&failed));
        roster.put("desk", "first");
        assert_eq!(roster.find("desk"), Found::Served(&"first"));
        assert_eq!(roster.put("desk", "second"), Some("first"));
        assert_eq!(roster.rest_if("desk", failed.clone(), |_| false), None);
        assert_eq!(roster.find("desk"), Found::Served(&"second"));
        assert_eq!(roster.rest_if("desk", failed.clone(), |_| true), Some("second"));
        assert!(roster.forget("desk") && !roster.forget("desk"));
        assert_eq!(roster.state_of("desk", |_| State::Ready), None);
    }
}
