//! Histories that were seen to go wrong, one by one.

use crate::world::{Fault, Spec, World};
use vastrelay_fleet::State;
use vastrelay_fleet::decider::{Change, Event, Outcome, Refused};

fn spec(machine: u32, bytes: usize) -> Spec {
    Spec {
        bytes,
        machine,
        answers: 0,
        fault: Fault::None,
    }
}

fn broken(machine: u32, fault: Fault) -> Spec {
    Spec {
        fault,
        ..spec(machine, 10)
    }
}

fn deploy(spec: Spec) -> Change<Spec> {
    Change::Deploy {
        spec,
        from_release: None,
        with_pause: false,
    }
}

fn with_pause(spec: Spec) -> Change<Spec> {
    Change::Deploy {
        spec,
        from_release: None,
        with_pause: true,
    }
}

/// Wants a change and returns its number.
fn request(world: &mut World, name: &str, change: Change<Spec>) -> u64 {
    world.request(name, change);
    world.last_generation
}

/// Returns a calm world whose service knows that there are no earlier workers.
fn begun() -> World {
    let mut world = World::calm();
    wait(&mut world);
    world
}

/// Lets enough time pass for a deployment.
fn wait(world: &mut World) {
    for _ in 0..60 {
        world.pass(500);
    }
}

fn state(world: &World, name: &str) -> Option<State> {
    world.service.decider.state_of(name)
}

fn outcome(world: &World, generation: u64) -> Option<&Outcome> {
    world.store.outcomes.get(&generation)
}

fn workers(world: &World, name: &str) -> usize {
    world.workers.values().filter(|worker| worker.endpoint == name).count()
}

#[test]
fn an_endpoint_exists_from_the_moment_at_which_somebody_wants_it_and_its_calls_wait() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 10)));
    assert_eq!(state(&world, "desk"), Some(State::Starting));
    world.call("desk");
    assert_eq!(world.service.waiting.len(), 1);
    wait(&mut world);
    assert_eq!(
        (state(&world, "desk"), world.service.waiting.len()),
        (Some(State::Ready), 0)
    );
}

#[test]
fn a_stop_ends_a_load_that_hangs_and_others_do_not_notice() {
    let mut world = begun();
    request(&mut world, "dock", deploy(spec(2, 10)));
    wait(&mut world);
    request(&mut world, "desk", deploy(spec(1, 10)));
    wait(&mut world);
    for fault in [Fault::NeverPrepared, Fault::NeverLoads] {
        let hangs = request(&mut world, "desk", deploy(broken(3, fault)));
        world.pass(5_000);
        let other = request(&mut world, "dock", deploy(spec(4 + fault as u32, 10)));
        world.pass(12_000);
        world.pass(1_000);
        assert_eq!(outcome(&world, other), Some(&Outcome::Reached), "{fault:?}");
        let stop = request(&mut world, "desk", Change::Stop { within: 100 });
        world.pass(1_000);
        world.pass(1_000);
        assert_eq!(outcome(&world, hangs), Some(&Outcome::Replaced { by: stop }));
        assert_eq!(outcome(&world, stop), Some(&Outcome::Reached));
        assert_eq!(
            (state(&world, "desk"), workers(&world, "desk")),
            (Some(State::Stopped), 0)
        );
        request(&mut world, "desk", Change::Start);
        wait(&mut world);
        assert_eq!(
            state(&world, "desk"),
            Some(State::Ready),
            "as it was before the deployment that hung"
        );
    }
}

#[test]
fn a_deployment_that_fails_leaves_the_endpoint_as_it_was() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 10)));
    wait(&mut world);
    for (before, was) in [
        (None, State::Ready),
        (Some(Change::Park { within: 0 }), State::Parked),
        (Some(Change::Stop { within: 0 }), State::Stopped),
    ] {
        if let Some(before) = before {
            request(&mut world, "desk", before);
            wait(&mut world);
        }
        for fault in [Fault::Unreadable, Fault::Dies, Fault::NeverLoads] {
            let failed = request(&mut world, "desk", deploy(broken(2, fault)));
            for _ in 0..2 {
                wait(&mut world);
            }
            assert!(
                matches!(outcome(&world, failed), Some(Outcome::GivenUp { .. })),
                "{fault:?}"
            );
            assert_eq!(state(&world, "desk"), Some(was), "{fault:?}");
        }
    }
    let first = request(&mut world, "dock", deploy(broken(2, Fault::Dies)));
    wait(&mut world);
    assert!(matches!(outcome(&world, first), Some(Outcome::GivenUp { .. })));
    assert_eq!(state(&world, "dock"), None, "nothing was there before");
}

#[test]
fn a_call_during_the_drain_of_a_parking_endpoint_waits_and_is_answered() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 100)));
    wait(&mut world);
    world.call("desk");
    request(&mut world, "desk", Change::Park { within: 60_000 });
    world.pass(10);
    world.pass(10);
    assert_eq!(state(&world, "desk"), Some(State::Parked));
    world.call("desk");
    assert_eq!(world.service.waiting.len(), 1);
    wait(&mut world);
    assert_eq!(
        (state(&world, "desk"), world.service.waiting.len()),
        (Some(State::Ready), 0)
    );
}

#[test]
fn where_memory_has_room_for_one_release_the_old_one_makes_room_or_comes_back() {
    let mut world = begun();
    request(&mut world, "dock", deploy(spec(9, 100)));
    wait(&mut world);
    request(&mut world, "desk", deploy(spec(1, 60)));
    wait(&mut world);
    let refused = request(&mut world, "desk", deploy(spec(2, 60)));
    wait(&mut world);
    assert!(matches!(outcome(&world, refused), Some(Outcome::GivenUp { .. })));
    assert_eq!(state(&world, "desk"), Some(State::Ready));
    let paused = request(&mut world, "desk", with_pause(spec(2, 60)));
    wait(&mut world);
    assert_eq!(outcome(&world, paused), Some(&Outcome::Reached));
    let mut worse = spec(3, 60);
    worse.fault = Fault::Dies;
    let failed = request(&mut world, "desk", with_pause(worse));
    wait(&mut world);
    assert!(matches!(outcome(&world, failed), Some(Outcome::GivenUp { .. })));
    wait(&mut world);
    assert_eq!(state(&world, "desk"), Some(State::Ready), "the earlier release is back");
    assert_eq!(world.store.desired["desk"].spec, spec(2, 60));
}

#[test]
fn nothing_is_started_before_the_workers_of_the_service_before_are_known() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 60)));
    wait(&mut world);
    let before: Vec<u64> = world.workers.keys().copied().collect();
    world.kill();
    while world.service.decider.state_of("desk") != Some(State::Ready) {
        assert_eq!(world.workers.keys().copied().collect::<Vec<_>>(), before);
        world.pass(100);
    }
    assert_eq!(
        world.workers.keys().copied().collect::<Vec<_>>(),
        before,
        "it adopts its worker"
    );
}

#[test]
fn a_release_with_the_same_worker_needs_no_other_one() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 100)));
    wait(&mut world);
    let before: Vec<u64> = world.workers.keys().copied().collect();
    let mut other = spec(1, 100);
    other.answers = 1;
    let change = request(&mut world, "desk", deploy(other));
    wait(&mut world);
    assert_eq!(outcome(&world, change), Some(&Outcome::Reached));
    assert_eq!(world.store.desired["desk"].release, 2);
    assert_eq!(world.workers.keys().copied().collect::<Vec<_>>(), before);
}

#[test]
fn a_full_disk_keeps_no_worker_from_its_start_and_no_call_from_its_answer() {
    let mut world = begun();
    for name in ["desk", "dock"] {
        request(&mut world, name, deploy(spec(1, 10)));
        wait(&mut world);
    }
    request(&mut world, "dock", Change::Park { within: 0 });
    wait(&mut world);
    world.disk_full = true;
    let worker = *world.workers.keys().next().unwrap();
    world.bury(worker, "it died", true);
    world.call("dock");
    wait(&mut world);
    assert_eq!(state(&world, "desk"), Some(State::Ready));
    assert_eq!(
        (state(&world, "dock"), world.service.waiting.len()),
        (Some(State::Ready), 0)
    );
    let refused = request(&mut world, "desk", Change::Stop { within: 0 });
    wait(&mut world);
    assert!(matches!(world.refused.get(&refused), Some(Refused::NotStored { .. })));
    assert_eq!(
        state(&world, "desk"),
        Some(State::Ready),
        "a change that is not stored changes nothing"
    );
}

#[test]
fn a_removed_endpoint_is_forgotten_with_its_release_numbers_and_stays_away() {
    let mut world = begun();
    for machine in [1, 2] {
        request(&mut world, "desk", deploy(spec(machine, 10)));
        wait(&mut world);
    }
    assert_eq!(world.store.desired["desk"].release, 2);
    request(&mut world, "desk", Change::Remove);
    wait(&mut world);
    world.kill();
    wait(&mut world);
    assert_eq!((state(&world, "desk"), workers(&world, "desk")), (None, 0));
    request(&mut world, "desk", deploy(spec(3, 10)));
    wait(&mut world);
    assert_eq!(world.store.desired["desk"].release, 1);
}

#[test]
fn a_change_that_begins_from_another_release_is_refused_with_the_one_there_is() {
    let mut world = begun();
    request(&mut world, "desk", deploy(spec(1, 10)));
    wait(&mut world);
    let stale = Change::Deploy {
        spec: spec(2, 10),
        from_release: Some(7),
        with_pause: false,
    };
    let stale = request(&mut world, "desk", stale);
    assert_eq!(world.refused.get(&stale), Some(&Refused::Stale { now: 1 }));
    let unknown = request(&mut world, "dock", Change::Start);
    assert_eq!(world.refused.get(&unknown), Some(&Refused::Unknown));
    assert_eq!(state(&world, "dock"), None);
}

#[test]
fn a_cancelled_deployment_leaves_nothing_behind() {
    let mut world = begun();
    let deployment = request(&mut world, "desk", deploy(broken(1, Fault::NeverLoads)));
    world.pass(8_000);
    assert_eq!(workers(&world, "desk"), 1);
    world.handle(Event::Withdrawn { generation: deployment });
    world.pass(1_000);
    world.pass(1_000);
    assert!(
        matches!(outcome(&world, deployment), Some(Outcome::GivenUp { failure }) if failure.why.contains("cancelled"))
    );
    assert_eq!((state(&world, "desk"), workers(&world, "desk")), (None, 0));
}

#[test]
fn a_parked_endpoint_without_room_stays_parked_and_its_next_call_tries_again() {
    let mut world = begun();
    // Two devices of 100 bytes: each of the others takes one.
    for (name, machine) in [("desk", 1), ("dock", 2)] {
        request(&mut world, name, deploy(spec(machine, 80)));
        wait(&mut world);
    }
    request(&mut world, "desk", Change::Park { within: 0 });
    wait(&mut world);
    request(&mut world, "tides", deploy(spec(3, 80)));
    wait(&mut world);
    assert_eq!(state(&world, "tides"), Some(State::Ready));
    world.call("desk");
    wait(&mut world);
    assert_eq!(state(&world, "desk"), Some(State::Parked));
    assert!(world.service.waiting.is_empty(), "its call was refused");
    request(&mut world, "tides", Change::Remove);
    wait(&mut world);
    world.call("desk");
    wait(&mut world);
    assert_eq!(state(&world, "desk"), Some(State::Ready));
    assert!(world.service.waiting.is_empty());
}
