//! Random histories of a fleet in virtual time: deployments, changes, crashes, stops, parking, calls and restarts of the service, each step
//! between any two of the others. Neither memory nor cores are overbooked, nothing leaks, and when nothing more happens every endpoint is as it is to be, or
//! says why it is not.

use proptest::prelude::*;
use std::collections::BTreeMap;
use std::time::Duration;
use vastrelay_fleet::CoreShare;
use vastrelay_fleet::cores::{CoreLedger, CoreWish};
use vastrelay_fleet::ledger::{Ledger, Read};
use vastrelay_fleet::reconcile::{self, Step};
use vastrelay_fleet::restart::Deaths;
use vastrelay_fleet::roster::{Found, Resting, Roster, Rouse};
use vastrelay_fleet::upkeep::Due;
use vastrelay_fleet::{State, Upkeep};

const NAMES: [&str; 4] = ["desk", "dock", "pier", "tides"];
/// Devices, and bytes of each.
const DEVICES: (usize, usize) = (2, 100);
/// Cores, and those of them that nobody needs to name.
const CORES: (usize, usize) = (4, 3);
/// Builds that several endpoints read, and their bytes.
const BUILDS: [(&str, usize); 2] = [("small", 10), ("large", 40)];

/// What an endpoint is to be, as a database keeps it.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Kept {
    wants: Wants,
    standing: reconcile::Wanted,
}

#[derive(Clone, Copy, Debug, PartialEq)]
struct Wants {
    bytes: usize,
    /// The number of the build that it reads; others read their own weights.
    build: usize,
    /// Twentieths of cores; what is free when none are named.
    cores: Option<u32>,
    idle_after: Option<u64>,
    /// Whether its workers end as soon as they begin.
    is_broken: bool,
}

/// What an endpoint holds of memory and of cores, by their numbers.
#[derive(Clone, Copy, Debug)]
struct Holds {
    memory: u64,
    cores: u64,
}

/// What is served: its wants, what it holds, when it was last of use, and whether it has a worker.
#[derive(Clone, Debug)]
struct Served {
    wants: Wants,
    holds: Holds,
    used: u64,
    has_worker: bool,
    deaths: Deaths,
}

/// Somebody who changes an endpoint: steps that are taken between those of others.
#[derive(Clone, Debug)]
enum Act {
    /// A new release is to take over, or the first one to begin; with a pause, what is served may be stopped first.
    Deploy {
        name: &'static str,
        wants: Wants,
        with_pause: bool,
    },
    /// It has room and is started.
    Begin {
        name: &'static str,
        wants: Wants,
        holds: Holds,
    },
    /// A call starts what is parked.
    Unpark { name: &'static str },
}

#[derive(Default)]
struct World {
    now: u64,
    roster: Roster<Served, u64>,
    ledger: Option<Ledger<()>>,
    cores: Option<CoreLedger>,
    kept: BTreeMap<&'static str, Kept>,
    /// Acts that are under way.
    acts: Vec<Act>,
    /// Calls that wait for an endpoint, since when.
    calls: Vec<(&'static str, u64)>,
}

#[derive(Clone, Debug)]
enum Event {
    Deploy(usize, Wants, bool),
    Stop(usize),
    Start(usize),
    Remove(usize),
    Call(usize),
    Crash(usize),
    Step(usize),
    Time(u64),
    Restart,
}

impl World {
    fn new() -> World {
        World {
            ledger: Some(Ledger::new(DEVICES.0, DEVICES.1)),
            cores: Some(CoreLedger::new(CORES.0, CORES.1)),
            ..World::default()
        }
    }

    fn ledger(&mut self) -> &mut Ledger<()> {
        self.ledger.as_mut().expect("there is one")
    }

    fn cores(&mut self) -> &mut CoreLedger {
        self.cores.as_mut().expect("there are some")
    }

    /// Holds room and cores for an endpoint; says who holds them where there is none.
    fn hold(&mut self, name: &str, wants: Wants) -> Result<Holds, String> {
        let wish = match wants.cores {
            Some(twentieths) => CoreWish::Named(CoreShare::of(f64::from(twentieths) / 20.0).expect("it can be had")),
            None => CoreWish::Free { least: 1, most: 3 },
        };
        let granted = self.cores().take(name, wish).map_err(|refused| refused.to_string())?;
        let build = BUILDS.get(wants.build).map(|(what, bytes)| Read {
            what: (*what).into(),
            bytes: *bytes,
        });
        let what = build.as_ref().map(|build| build.what.as_str());
        let room = self.ledger().room(1, what).expect("there is a device");
        match self.ledger().hold(name, &room.places, wants.bytes, build, ()) {
            Ok(memory) => Ok(Holds {
                memory,
                cores: granted.number,
            }),
            Err(error) => {
                self.cores().give_back(granted.number);
                Err(format!("{error}: {:?} hold it", room.holders))
            }
        }
    }

    /// Whether there is no room for an endpoint.
    fn has_no_room(&self, name: &str, wants: Wants) -> bool {
        let mut alone = World {
            ledger: self.ledger.clone(),
            cores: self.cores.clone(),
            ..World::default()
        };
        alone.hold(name, wants).is_err()
    }

    fn let_go(&mut self, holds: Holds) {
        self.ledger().give_back(holds.memory).expect("it was held");
        self.cores().give_back(holds.cores);
    }

    fn resting(&self, state: State, why: &str, is_vain: bool) -> Resting<u64> {
        Resting {
            state,
            why: why.into(),
            since: self.now,
            is_vain,
            longest_wait: None,
        }
    }

    fn give_back(&mut self, served: Option<Served>) {
        if let Some(served) = served {
            self.let_go(served.holds);
        }
    }

    fn happens(&mut self, event: Event) {
        match event {
            Event::Deploy(who, wants, with_pause) => {
                let name = NAMES[who];
                if self.roster.change(name) {
                    self.acts.push(Act::Deploy {
                        name,
                        wants,
                        with_pause,
                    });
                }
            }
            Event::Stop(who) => self.stops(NAMES[who]),
            Event::Start(who) => {
                let name = NAMES[who];
                let wants = self.kept.get(name).map(|kept| kept.wants);
                let rests = self.roster.resting().contains_key(name);
                if let Some(wants) = wants.filter(|_| rests) {
                    self.starts(name, wants);
                }
            }
            Event::Remove(who) => {
                let name = NAMES[who];
                if self.roster.change(name) {
                    let served = self.roster.take(name);
                    self.give_back(served);
                    self.roster.forget(name);
                    self.kept.remove(name);
                    self.roster.changed(name);
                }
            }
            Event::Call(who) => self.calls.push((NAMES[who], self.now)),
            Event::Crash(who) => {
                let name = NAMES[who];
                if let Some(mut served) = self.roster.take(name) {
                    if served.has_worker {
                        served.has_worker = false;
                        served.deaths.note(false);
                    }
                    self.roster.put(name, served);
                }
            }
            Event::Step(which) if !self.acts.is_empty() => {
                let act = self.acts.remove(which % self.acts.len());
                self.takes(act);
            }
            Event::Step(_) => {}
            Event::Time(seconds) => self.passes(seconds),
            Event::Restart => self.restarts(),
        }
        self.answer();
    }

    fn stops(&mut self, name: &'static str) {
        let is_known = self.kept.contains_key(name);
        if !is_known || !self.roster.change(name) {
            return;
        }
        let resting = self.resting(State::Stopped, "somebody has stopped it", false);
        let served = self.roster.rest(name, resting);
        self.give_back(served);
        self.kept.get_mut(name).expect("it is kept").standing = reconcile::Wanted::Stopped;
        self.roster.changed(name);
    }

    /// Takes the next step of an act.
    fn takes(&mut self, act: Act) {
        match act {
            Act::Deploy {
                name,
                wants,
                with_pause,
            } => {
                let mut held = self.hold(name, wants);
                if held.is_err() && with_pause {
                    self.roster.announce(name);
                    let served = self.roster.take(name);
                    self.give_back(served);
                    held = self.hold(name, wants);
                }
                match held {
                    Ok(holds) => self.acts.push(Act::Begin { name, wants, holds }),
                    Err(why) => self.gives_up(name, &why),
                }
            }
            Act::Begin { name, wants, holds } if wants.is_broken => {
                self.let_go(holds);
                self.gives_up(name, "its worker ended as soon as it began");
            }
            Act::Begin { name, wants, holds } => {
                let served = Served {
                    wants,
                    holds,
                    used: self.now,
                    has_worker: true,
                    deaths: Deaths::default(),
                };
                let before = self.roster.put(name, served);
                self.give_back(before);
                let standing = reconcile::Wanted::Served;
                self.kept.insert(name, Kept { wants, standing });
                self.roster.changed(name);
            }
            Act::Unpark { name } => {
                // Who has other plans with it goes first.
                if !self.roster.change(name) {
                    self.roster.withdraw(name);
                    return;
                }
                if !matches!(self.roster.find(name), Found::Parked) {
                    self.roster.withdraw(name);
                    self.roster.changed(name);
                    return;
                }
                let wants = self.kept[name].wants;
                match self.hold(name, wants) {
                    Ok(holds) => self.acts.push(Act::Begin { name, wants, holds }),
                    Err(why) => {
                        let resting = self.resting(State::Parked, &why, true);
                        let served = self.roster.rest(name, resting);
                        assert!(served.is_none(), "what is served needs no room");
                        self.roster.changed(name);
                    }
                }
            }
        }
    }

    /// Ends a change in vain: what is served goes on, what was stopped for it is brought back or has failed.
    fn gives_up(&mut self, name: &'static str, why: &str) {
        if !self.roster.served().contains_key(name) {
            match self.kept.get(name).copied() {
                Some(kept) if kept.standing == reconcile::Wanted::Served => match self.hold(name, kept.wants) {
                    Ok(holds) if !kept.wants.is_broken => {
                        let wants = kept.wants;
                        return self.acts.push(Act::Begin { name, wants, holds });
                    }
                    Ok(holds) => self.let_go(holds),
                    Err(_) => {}
                },
                _ => {}
            }
            if let Some(kept) = self.kept.get(name) {
                // Whatever does not end as soon as it begins may work later.
                let resting = self.resting(State::Failed, why, !kept.wants.is_broken);
                self.roster.rest(name, resting);
            } else {
                self.roster.withdraw(name);
                self.roster.forget(name);
            }
        }
        self.roster.changed(name);
    }

    /// Lets time pass: whoever is idle is parked, whoever has no worker gets the next one.
    fn passes(&mut self, seconds: u64) {
        self.now += seconds;
        self.reconciles();
        for name in NAMES {
            let Found::Served(served) = self.roster.find(name) else {
                continue;
            };
            let upkeep = Upkeep {
                idle_after: served.wants.idle_after.map(Duration::from_secs),
                ..Upkeep::default()
            };
            let idle = Duration::from_secs(self.now - served.used);
            let waits = self.calls.iter().any(|(called, _)| *called == name);
            if upkeep.due(idle, idle, waits) == Some(Due::Park) {
                if self.roster.change(name) {
                    let resting = self.resting(State::Parked, "nobody called it", false);
                    let served = self.roster.rest_if(name, resting, |_| true);
                    self.give_back(served);
                    self.kept.get_mut(name).expect("it is kept").standing = reconcile::Wanted::Parked;
                    self.roster.changed(name);
                }
            } else if let Some(mut served) = self.roster.take(name) {
                served.has_worker = true;
                self.roster.put(name, served);
            }
        }
    }

    /// Ends the service and begins the next one with what is kept: what was under way is gone, with all that it held.
    fn restarts(&mut self) {
        let kept = std::mem::take(&mut self.kept);
        let now = self.now;
        *self = World { now, ..World::new() };
        for (name, kept) in kept {
            self.kept.insert(name, kept);
            match reconcile::next_step(kept.standing, &self.roster.find(name), Duration::ZERO) {
                Step::Rest(state) => drop(self.roster.rest(name, self.resting(state, "as before", false))),
                Step::Start => {
                    self.roster.announce(name);
                    self.starts(name, kept.wants);
                }
                Step::Nothing => unreachable!("nothing is known of it"),
            }
        }
    }

    /// Begins to start an endpoint, unless somebody else changes it.
    fn starts(&mut self, name: &'static str, wants: Wants) {
        if self.roster.change(name) {
            let with_pause = false;
            self.acts.push(Act::Deploy {
                name,
                wants,
                with_pause,
            });
        }
    }

    /// Starts again what failed for a reason that may have passed.
    fn reconciles(&mut self) {
        for (name, kept) in self.kept.clone() {
            let rests = self.roster.resting().get(name);
            let rests_for = rests.map_or(0, |resting| self.now - resting.since);
            let step = reconcile::next_step(kept.standing, &self.roster.find(name), Duration::from_secs(rests_for));
            if step == Step::Start {
                self.starts(name, kept.wants);
            }
        }
    }

    /// Answers calls as far as they can be: each is answered, refused with a reason, or waits for what is under way.
    fn answer(&mut self) {
        for (name, since) in std::mem::take(&mut self.calls) {
            match self.roster.find(name) {
                Found::Served(_) => {
                    let mut served = self.roster.take(name).expect("it is served");
                    served.used = self.now;
                    self.roster.put(name, served);
                }
                Found::Parked => match self.roster.rouse(name, since) {
                    Rouse::Start => {
                        self.acts.push(Act::Unpark { name });
                        self.calls.push((name, since));
                    }
                    Rouse::Wait => self.calls.push((name, since)),
                    Rouse::There => unreachable!("it is parked"),
                    Rouse::GiveUp => assert!(!self.roster.resting()[name].why.is_empty()),
                },
                Found::Starting | Found::Unknown => {}
                Found::Resting(resting) => assert!(!resting.why.is_empty()),
            }
        }
    }

    /// Makes sure of what holds at every moment.
    fn check(&mut self) {
        let begun = self.acts.iter().filter(|act| matches!(act, Act::Begin { .. })).count();
        let served = self.roster.served().len();
        let ledger = self.ledger();
        for place in 0..DEVICES.0 {
            assert!(ledger.taken_of(place) <= DEVICES.1, "overbooked");
        }
        assert_eq!(
            ledger.holdings().count(),
            served + begun,
            "somebody holds what nobody has"
        );
        let shares = self.cores().shares();
        let sum: f64 = shares.values().map(|share| share.cores()).sum();
        assert!(sum <= CORES.0 as f64 + 1e-9, "{sum} cores of {}", CORES.0);
        let owners: Vec<String> = shares.keys().map(|owner| (*owner).to_owned()).collect();
        for owner in owners {
            let begins = |act: &Act| matches!(act, Act::Begin { name, .. } if *name == owner);
            let is_there = self.roster.served().contains_key(&owner) || self.acts.iter().any(begins);
            assert!(is_there, "`{owner}` holds cores and is not there");
        }
        for name in self.roster.served().keys() {
            assert!(
                !self.roster.resting().contains_key(name),
                "`{name}` is served and rests"
            );
        }
    }

    /// Lets everything that is under way come to its end.
    fn quiet(&mut self) {
        // Long enough for another try of what failed.
        for _ in 0..2 {
            while !self.acts.is_empty() {
                self.happens(Event::Step(0));
                self.check();
            }
            self.reconciles();
            self.now += reconcile::AGAIN.as_secs();
        }
        while !self.acts.is_empty() {
            self.happens(Event::Step(0));
            self.check();
        }
        self.answer();
        assert!(self.calls.is_empty(), "a call waits for nothing");
        assert!(!self.roster.expects_more(), "somebody is announced and never comes");
        for (name, kept) in &self.kept {
            let is_served = self.roster.served().contains_key(*name);
            match (is_served, self.roster.resting().get(*name)) {
                (true, None) => assert_eq!(self.roster.served()[*name].wants, kept.wants, "`{name}`"),
                (false, Some(resting)) => {
                    assert!(!resting.why.is_empty(), "`{name}`");
                    let is_to_be = kept.standing == reconcile::Wanted::Served && !kept.wants.is_broken;
                    assert!(
                        !is_to_be || self.has_no_room(name, kept.wants),
                        "`{name}` has room and rests: {}",
                        resting.why
                    );
                }
                both => panic!("`{name}` is kept and {both:?}"),
            }
        }
        for name in NAMES.iter().filter(|name| !self.kept.contains_key(**name)) {
            assert_eq!(
                self.roster.state_of(name, |_| State::Ready),
                None,
                "`{name}` is not kept"
            );
        }
    }
}

fn event() -> impl Strategy<Value = Event> {
    let who = 0..NAMES.len();
    let cores = prop::option::of(prop_oneof![1u32..20, (1u32..6).prop_map(|whole| 20 * whole)]);
    let machine = (1usize..120, 0usize..4, cores);
    let wants = (machine, prop::option::of(1u64..20), prop::bool::weighted(0.1));
    let wants = wants.prop_map(|((bytes, build, cores), idle_after, is_broken)| Wants {
        bytes,
        build,
        cores,
        idle_after,
        is_broken,
    });
    prop_oneof![
        3 => (who.clone(), wants, any::<bool>()).prop_map(|(who, wants, pause)| Event::Deploy(who, wants, pause)),
        1 => who.clone().prop_map(Event::Stop),
        1 => who.clone().prop_map(Event::Start),
        1 => who.clone().prop_map(Event::Remove),
        3 => who.clone().prop_map(Event::Call),
        1 => who.prop_map(Event::Crash),
        6 => (0usize..8).prop_map(Event::Step),
        2 => (1u64..15).prop_map(Event::Time),
        1 => Just(Event::Restart),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 10_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn every_endpoint_comes_to_what_it_is_to_be_or_says_why_not(events in prop::collection::vec(event(), 0..80)) {
        let mut world = World::new();
        for event in events {
            world.happens(event);
            world.check();
        }
        world.quiet();
        world.check();
    }
}
