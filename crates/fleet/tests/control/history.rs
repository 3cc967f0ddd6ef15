//! One random history, and the checks of the world at rest after it.

use crate::world::{Fault, Spec, World};
use rand::Rng;
use std::collections::BTreeMap;
use vastrelay_fleet::State;
use vastrelay_fleet::decider::{Change, Event, Outcome, Rest, RunId};

const NAMES: [&str; 4] = ["desk", "dock", "pier", "tides"];
/// Acts of a history.
const ACTS: usize = 60;

pub struct History;

impl History {
    pub fn run(seed: u64) -> Result<(), String> {
        let mut world = World::new(seed);
        for _ in 0..ACTS {
            act(&mut world);
            let time = [0, 10, 500, 3_000, 20_000][world.rng.random_range(0..5)];
            world.pass(time);
        }
        rest(&mut world);
        check(&world).map_err(|why| format!("{why}\n{:#?}\n{}", world.service.decider.endpoints(), world.tail()))
    }
}

/// A caller acts, or a part of the world breaks.
fn act(world: &mut World) {
    let name = NAMES[world.rng.random_range(0..NAMES.len())];
    let within = [0, 100, 5_000][world.rng.random_range(0..3)];
    match world.rng.random_range(0..100) {
        0..25 => {
            let spec = spec(world);
            let from_release = world.chance(10).then(|| world.rng.random_range(0..3));
            let with_pause = world.chance(40);
            world.request(
                name,
                Change::Deploy {
                    spec,
                    from_release,
                    with_pause,
                },
            );
        }
        25..32 => world.request(name, Change::Stop { within }),
        32..40 => world.request(name, Change::Start),
        40..45 => world.request(name, Change::Park { within }),
        45..50 => world.request(name, Change::Renew { within }),
        50..55 => world.request(name, Change::Remove),
        55..58 => {
            let last = world.last_generation;
            let generation = world.rng.random_range(0..=last);
            world.handle(Event::Withdrawn { generation });
        }
        58..72 => world.call(name),
        72..76 => world.answer_calls(),
        76..80 => {
            let run: Option<RunId> = world
                .service
                .decider
                .endpoints()
                .get(name)
                .and_then(|endpoint| endpoint.current);
            if let Some(run) = run {
                world.handle(Event::Idle { run });
            }
        }
        80..86 => {
            let all: Vec<_> = world
                .workers
                .iter()
                .filter(|(_, w)| w.ends.is_none())
                .map(|(i, _)| *i)
                .collect();
            if !all.is_empty() {
                let incarnation = all[world.rng.random_range(0..all.len())];
                let produced = world.chance(50);
                world.bury(incarnation, "it died", produced);
            }
        }
        86..90 => {
            let all: Vec<_> = world.workers.keys().copied().collect();
            if !all.is_empty() {
                let incarnation = all[world.rng.random_range(0..all.len())];
                world.freeze(incarnation);
            }
        }
        90..94 => world.disk_full = !world.disk_full,
        94..96 => world.kill(),
        _ => {}
    }
}

fn spec(world: &mut World) -> Spec {
    let fault = match world.rng.random_range(0..20) {
        0 => Fault::Unreadable,
        1 => Fault::NeverPrepared,
        2 => Fault::Dies,
        3 => Fault::NeverLoads,
        _ => Fault::None,
    };
    Spec {
        bytes: [10, 30, 60, 100, 130][world.rng.random_range(0..5)],
        machine: world.rng.random_range(0..3),
        answers: world.rng.random_range(0..3),
        fault,
    }
}

/// Nothing more breaks, and time passes.
fn rest(world: &mut World) {
    world.disk_full = false;
    (world.faults.lost, world.faults.killed) = (0, 0);
    for _ in 0..400 {
        world.answer_calls();
        world.call_again();
        world.pass(1_000);
    }
    world.answer_calls();
}

/// Checks the world at rest.
fn check(world: &World) -> Result<(), String> {
    let decider = &world.service.decider;
    let wanted = wanted(world)?;
    for name in NAMES {
        let (endpoint, wanted) = (decider.endpoints().get(name), wanted.get(name));
        let stored = world.store.desired.get(name);
        let stored = stored.map(|desired| (desired.spec.clone(), desired.serving));
        if stored.as_ref() != wanted {
            return Err(format!(
                "{name} is stored as {stored:?}; its changes lead to {wanted:?}"
            ));
        }
        let state = endpoint.map(|endpoint| endpoint.state());
        let stuck = world.store.changes.get(name);
        let is_stuck =
            stuck.is_some_and(|(_, change)| matches!(change, Change::Deploy { spec, .. } if spec.fault != Fault::None));
        match (wanted, state) {
            (None, None) => {}
            (_, Some(_)) if is_stuck => {}
            (Some((_, false)), Some(State::Stopped)) => {}
            (Some((_, true)), Some(State::Ready | State::Parked)) => {}
            (Some((spec, true)), Some(State::Failed | State::Starting)) => {
                let fails = spec.fault != Fault::None;
                let rest = endpoint.and_then(|endpoint| endpoint.rest.as_ref());
                let has_reason = matches!(rest, Some(Rest::Failed { .. }));
                let has_room = room_for(world, name, spec.bytes);
                if !fails && has_room {
                    return Err(format!("{name} is {state:?} with room: {rest:?}"));
                }
                if !fails && !has_reason && state == Some(State::Failed) {
                    return Err(format!("{name} has failed without a reason"));
                }
            }
            (wanted, state) => return Err(format!("{name} is {state:?}; its changes lead to {wanted:?}")),
        }
        if !is_stuck && let Some(endpoint) = endpoint {
            if let Some(underway) = &endpoint.change {
                return Err(format!("{name} is still changed by {underway:?}"));
            }
            if endpoint.runs.iter().any(|run| run.is_leaving()) {
                return Err(format!("{name} has a run that does not leave: {:?}", endpoint.runs));
            }
        }
    }
    check_workers(world)?;
    match (
        world.service.waiting.len(),
        world.open_calls.len(),
        world.service.unanswered.len(),
    ) {
        (0, 0, 0) => Ok(()),
        (waiting, open, unanswered) => {
            let hopeless = world
                .service
                .waiting
                .values()
                .all(|(name, _)| waits_with_reason(world, name));
            match hopeless && open == waiting && unanswered == 0 {
                true => Ok(()),
                false => Err(format!(
                    "{waiting} calls wait, {open} are open, {unanswered} changes have no answer: {:?}",
                    world.service.waiting
                )),
            }
        }
    }
}

/// A call may wait for ever only where something never ends that the decider cannot know to be endless.
fn waits_with_reason(world: &World, name: &str) -> bool {
    let change = world.store.changes.get(name);
    let broken = |spec: &Spec| spec.fault != Fault::None;
    let stuck = change.is_some_and(|(_, change)| matches!(change, Change::Deploy { spec, .. } if broken(spec)));
    stuck
        || world
            .store
            .desired
            .get(name)
            .is_some_and(|desired| broken(&desired.spec))
}

/// Whether an endpoint's need would have room beside the workers of others.
fn room_for(world: &World, name: &str, bytes: usize) -> bool {
    let ledger = &world.service.decider.ledgers().all()["sim"].memory;
    (0..2).any(|place| {
        let own: usize = ledger
            .holdings()
            .filter(|held| held.owner == name && held.places == [place])
            .map(|held| held.bytes)
            .sum();
        ledger.taken_of(place) - own + bytes <= crate::world::MEMORY
    })
}

/// Every worker is the one of a run, and every run with a worker has that.
fn check_workers(world: &World) -> Result<(), String> {
    let runs: Vec<_> = world
        .service
        .decider
        .endpoints()
        .values()
        .flat_map(|endpoint| &endpoint.runs)
        .collect();
    for (incarnation, worker) in &world.workers {
        if !runs.iter().any(|run| run.incarnation() == Some(*incarnation)) {
            return Err(format!("no run has worker {incarnation} of {}", worker.endpoint));
        }
    }
    if !world.service.decider.workers_without_run().is_empty() {
        return Err("workers without a run do not end".into());
    }
    match runs
        .iter()
        .find(|run| run.serves() && !world.workers.contains_key(&run.incarnation().unwrap()))
    {
        Some(run) => Err(format!("{run:?} has no worker")),
        None => Ok(()),
    }
}

/// Returns the desired state of each endpoint, derived from the accepted changes and their outcomes.
fn wanted(world: &World) -> Result<BTreeMap<String, (Spec, bool)>, String> {
    let mut wanted: BTreeMap<String, (Spec, bool)> = BTreeMap::new();
    for (name, generation, change) in &world.store.accepted {
        let outcome = world.store.outcomes.get(generation);
        let is_under_way = world
            .store
            .changes
            .get(name)
            .is_some_and(|(under, _)| under == generation);
        if outcome.is_none() && !is_under_way {
            return Err(format!("change {generation} of {name} has no outcome"));
        }
        let reached = outcome == Some(&Outcome::Reached);
        match change {
            Change::Deploy { spec, .. } if reached => _ = wanted.insert(name.clone(), (spec.clone(), true)),
            Change::Start if reached => {
                if let Some(endpoint) = wanted.get_mut(name) {
                    endpoint.1 = true;
                }
            }
            // These hold from the moment on at which they were accepted.
            Change::Stop { .. } => {
                if let Some(endpoint) = wanted.get_mut(name) {
                    endpoint.1 = false;
                }
            }
            Change::Remove => _ = wanted.remove(name),
            _ => {}
        }
    }
    Ok(wanted)
}
