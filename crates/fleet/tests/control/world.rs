//! The world outside of the decider: store, workers, preparations and calls, with their faults.

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use std::collections::{BTreeMap, BTreeSet};
use vastrelay_fleet::cores::{CoreRequest, NoCores};
use vastrelay_fleet::decider::{
    About, Action, ActionId, Admission, Change, Decider, Desired, Event, Failure, Generation, Incarnation, Left,
    Millis, Need, Outcome, Prepared, Refused, RunId, Start, Stored, Take, Taken, Terms, Write,
};
use vastrelay_fleet::ledger::Room;

/// Bytes of each of two devices.
pub const MEMORY: usize = 100;
/// How long a worker may take to load before it is ended.
const LONGEST_START: Millis = 30_000;
/// How long a worker takes to end that does not do so by itself.
const KILL: Millis = 3_000;

#[derive(Clone, Debug)]
pub struct Simulated;

impl Terms for Simulated {
    type Spec = Spec;
    type Need = Bytes;
}

/// A spec.
#[derive(Clone, Debug, PartialEq)]
pub struct Spec {
    pub bytes: usize,
    /// The identity of its worker, with the other fields; specs that differ in `answers` alone share a worker.
    pub machine: u32,
    pub answers: u32,
    pub fault: Fault,
}

impl Spec {
    /// Returns what tells its worker from others.
    fn made_of(&self) -> String {
        format!("{} of {} bytes {:?}", self.machine, self.bytes, self.fault)
    }
}

/// The fault of a spec.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fault {
    None,
    /// It cannot be prepared.
    Unreadable,
    /// Its preparation never ends.
    NeverPrepared,
    /// Its workers end as soon as they begin.
    Dies,
    /// Its workers never load.
    NeverLoads,
}

/// Bytes of one device, for a worker of an identity.
#[derive(Clone, Debug, PartialEq)]
pub struct Bytes {
    pub bytes: usize,
    worker: String,
}

impl Need for Bytes {
    fn device(&self) -> &str {
        "sim"
    }
    fn count(&self) -> usize {
        1
    }
    fn reads(&self) -> Option<&str> {
        None
    }
    fn cores(&self) -> CoreRequest {
        CoreRequest::Free { least: 1, most: 1 }
    }
    fn worker(&self) -> &str {
        &self.worker
    }
    fn take(&self, room: &Room, _: usize) -> Result<Take, Failure> {
        match self.bytes <= room.free {
            true => Ok(Take {
                own: self.bytes,
                read: 0,
            }),
            false => Err(Failure::room(format!("{} of {} bytes are free", room.free, self.bytes))),
        }
    }
    fn without_cores(&self, refused: NoCores) -> Failure {
        Failure::room(refused.to_string())
    }
}

/// A database.
#[derive(Clone, Debug, Default)]
pub struct Store {
    pub desired: BTreeMap<String, Desired<Spec>>,
    pub changes: BTreeMap<String, (Generation, Change<Spec>)>,
    pub outcomes: BTreeMap<Generation, Outcome>,
    /// Every change that was accepted, in the order of its endpoint.
    pub accepted: Vec<(String, Generation, Change<Spec>)>,
}

impl Store {
    /// Writes a transaction. Written twice it changes nothing.
    fn write(&mut self, write: &Write<Spec>) -> Result<(), String> {
        match write {
            Write::Accept {
                name,
                generation,
                change,
                replaces,
            } => {
                if self.accepted.iter().any(|(_, known, _)| known == generation) {
                    return Ok(());
                }
                if let Some(replaced) = replaces {
                    if self.changes.get(name).map(|(under, _)| under) != Some(replaced) {
                        return Err(format!("{generation} replaces {replaced}, which is not under way"));
                    }
                    self.outcomes.insert(*replaced, Outcome::Replaced { by: *generation });
                } else if let Some((under, _)) = self.changes.get(name) {
                    return Err(format!("{generation} begins while {under} is under way"));
                }
                match change {
                    Change::Stop { .. } => {
                        if let Some(desired) = self.desired.get_mut(name) {
                            (desired.serving, desired.generation) = (false, *generation);
                        }
                    }
                    Change::Remove => _ = self.desired.remove(name),
                    _ => {}
                }
                self.changes.insert(name.clone(), (*generation, change.clone()));
                self.accepted.push((name.clone(), *generation, change.clone()));
            }
            Write::End {
                name,
                generation,
                outcome,
                desired,
            } => {
                match self.outcomes.get(generation) {
                    Some(known) if known == outcome => return Ok(()),
                    Some(known) => return Err(format!("{generation} ends as {outcome:?} and as {known:?}")),
                    None => {}
                }
                self.outcomes.insert(*generation, outcome.clone());
                if self.changes.get(name).is_some_and(|(under, _)| under == generation) {
                    self.changes.remove(name);
                }
                if let Some(desired) = desired {
                    self.desired.insert(name.clone(), desired.clone());
                }
            }
            Write::Became { name, desired } => _ = self.desired.insert(name.clone(), desired.clone()),
        }
        Ok(())
    }
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Life {
    Loading {
        until: Millis,
    },
    Ready,
    /// It answers nothing and ends only when it is killed.
    Frozen,
    /// The same, while it loads: it is killed when it has taken too long.
    FrozenEarly {
        until: Millis,
    },
}

/// A worker process.
#[derive(Clone, Debug)]
pub struct Worker {
    pub endpoint: String,
    pub run: RunId,
    pub machine: String,
    pub taken: Taken,
    pub life: Life,
    pub fault: Fault,
    /// The moment at which an ending worker is gone.
    pub ends: Option<Millis>,
    pub calls: BTreeSet<u64>,
    /// Whether it is connected to the service that is there now, which learns nothing of others.
    pub is_connected: bool,
    /// Calls that have not ended when it does go back to the line.
    pub moves: bool,
}

/// The service: all of this is lost when it is killed.
pub struct Service {
    pub decider: Decider<Simulated>,
    inbox: Vec<(Millis, Event<Simulated>)>,
    results: BTreeMap<ActionId, Event<Simulated>>,
    preparing: BTreeMap<ActionId, (Millis, Spec)>,
    prepared: BTreeMap<ActionId, Spec>,
    routes: BTreeMap<String, RunId>,
    closed: BTreeSet<RunId>,
    /// Calls that wait for an endpoint, and since when.
    pub waiting: BTreeMap<u64, (String, Millis)>,
    /// Calls of leaving runs whose worker has died, by their run: its next worker answers them.
    pub unfinished: BTreeMap<u64, RunId>,
    /// Changes without an answer.
    pub unanswered: BTreeSet<Generation>,
    /// The moment at which the workers of the earlier service are known.
    finds: Option<Millis>,
}

/// How often things go wrong, in percent.
#[derive(Clone, Copy, Debug)]
pub struct Faults {
    pub lost: u32,
    pub doubled: u32,
    pub late: Millis,
    pub killed: u32,
}

pub struct World {
    pub rng: StdRng,
    pub now: Millis,
    pub store: Store,
    pub disk_full: bool,
    pub workers: BTreeMap<Incarnation, Worker>,
    pub service: Service,
    pub faults: Faults,
    pub last_generation: Generation,
    next_call: u64,
    /// Calls that were accepted and have neither ended nor been refused.
    pub open_calls: BTreeSet<u64>,
    pub refused: BTreeMap<Generation, Refused>,
    /// Whether the service dies after the current action.
    is_killed: bool,
    pub log: Vec<String>,
}

/// Returns a service that knows how many incarnations were begun: by the folders of workers, where the store does not have them.
fn service(last_incarnation: Incarnation) -> Service {
    let mut decider = Decider::new(last_incarnation);
    decider.add_device("sim", 2, MEMORY, None);
    Service {
        decider,
        inbox: Vec::new(),
        results: BTreeMap::new(),
        preparing: BTreeMap::new(),
        prepared: BTreeMap::new(),
        routes: BTreeMap::new(),
        closed: BTreeSet::new(),
        waiting: BTreeMap::new(),
        unfinished: BTreeMap::new(),
        unanswered: BTreeSet::new(),
        finds: None,
    }
}

impl World {
    /// Returns a world in which things go wrong.
    pub fn new(seed: u64) -> World {
        let mut rng = StdRng::seed_from_u64(seed);
        let faults = Faults {
            lost: rng.random_range(0..20),
            doubled: rng.random_range(0..20),
            late: rng.random_range(1..3_000),
            killed: rng.random_range(0..3),
        };
        World::with(rng, faults)
    }

    /// Returns a world in which nothing goes wrong by itself.
    pub fn calm() -> World {
        let faults = Faults {
            lost: 0,
            doubled: 0,
            late: 1,
            killed: 0,
        };
        World::with(StdRng::seed_from_u64(1), faults)
    }

    fn with(rng: StdRng, faults: Faults) -> World {
        let mut world = World {
            rng,
            now: 1,
            store: Store::default(),
            disk_full: false,
            workers: BTreeMap::new(),
            service: service(0),
            faults,
            last_generation: 0,
            next_call: 0,
            open_calls: BTreeSet::new(),
            refused: BTreeMap::new(),
            is_killed: false,
            log: Vec::new(),
        };
        world.begin();
        world
    }

    pub fn chance(&mut self, percent: u32) -> bool {
        self.rng.random_range(0..100) < percent
    }

    /// Begins a service on what is stored and what workers are there.
    fn begin(&mut self) {
        self.service = service(self.workers.keys().copied().max().unwrap_or(0));
        let names: BTreeSet<&String> = self.store.desired.keys().chain(self.store.changes.keys()).collect();
        let stored = names.into_iter().map(|name| Stored {
            name: name.clone(),
            desired: self.store.desired.get(name).cloned(),
            last_release: 0,
            parked: false,
            change: self.store.changes.get(name).cloned(),
        });
        let stored = stored.collect();
        self.service.finds = Some(self.now + self.rng.random_range(0..5_000));
        self.handle(Event::Began(stored));
    }

    /// Kills the service with all its knowledge; its workers live on.
    pub fn kill(&mut self) {
        self.log.push(format!("{} killed", self.now));
        // Its running answers end with it.
        self.open_calls.clear();
        self.workers.values_mut().for_each(|worker| {
            worker.calls.clear();
            worker.is_connected = false;
        });
        self.is_killed = false;
        self.begin();
    }

    /// Lets time pass: workers load, end and die, and events arrive.
    pub fn pass(&mut self, time: Millis) {
        let until = self.now + time;
        while let Some(next) = self.next_moment().filter(|next| *next <= until) {
            self.now = self.now.max(next);
            self.happen();
        }
        self.now = until;
        self.happen();
        self.handle(Event::Ticked);
    }

    fn next_moment(&self) -> Option<Millis> {
        let inbox = self.service.inbox.iter().map(|(due, _)| *due);
        let preparing = self.service.preparing.values().map(|(due, _)| *due);
        let workers = self
            .workers
            .values()
            .filter_map(|worker| match (worker.ends, worker.life) {
                (Some(ends), _) => Some(ends),
                (None, Life::Loading { until } | Life::FrozenEarly { until }) => Some(until),
                _ => None,
            });
        inbox.chain(preparing).chain(workers).chain(self.service.finds).min()
    }

    /// Does what is due now.
    fn happen(&mut self) {
        if self.service.finds.is_some_and(|finds| finds <= self.now) {
            self.find_workers();
        }
        self.end_preparations();
        self.move_workers();
        let now = self.now;
        let (due, later): (Vec<_>, Vec<_>) = std::mem::take(&mut self.service.inbox)
            .into_iter()
            .partition(|(due, _)| *due <= now);
        self.service.inbox = later;
        for (_, event) in due {
            self.handle(event);
        }
    }

    /// Finds the workers of the earlier service. The ones that do not answer are killed, and the new service knows nothing of them.
    fn find_workers(&mut self) {
        self.service.finds = None;
        self.workers
            .retain(|_, worker| worker.is_connected || worker.life == Life::Ready && worker.ends.is_none());
        self.workers.values_mut().for_each(|worker| worker.is_connected = true);
        let left = self.workers.iter().map(|(incarnation, worker)| Left {
            endpoint: worker.endpoint.clone(),
            incarnation: *incarnation,
            worker: worker.machine.clone(),
            taken: worker.taken.clone(),
        });
        let left = left.collect();
        self.handle(Event::Found(left));
    }

    fn end_preparations(&mut self) {
        let now = self.now;
        let due: Vec<ActionId> = self
            .service
            .preparing
            .iter()
            .filter(|(_, (due, _))| *due <= now)
            .map(|(id, _)| *id)
            .collect();
        for id in due {
            let (_, spec) = self.service.preparing.remove(&id).unwrap();
            let result = match spec.fault {
                Fault::Unreadable => Err(Failure::other("it cannot be read".into())),
                _ => Ok(Prepared {
                    needs: vec![Bytes {
                        bytes: spec.bytes,
                        worker: spec.made_of(),
                    }],
                    identity: format!("{} {}", spec.made_of(), spec.answers),
                    machine: spec.made_of(),
                }),
            };
            self.service.prepared.insert(id, spec);
            self.tell_once(id, Event::Prepared { id, result });
        }
    }

    fn move_workers(&mut self) {
        let now = self.now;
        for incarnation in self.workers.keys().copied().collect::<Vec<_>>() {
            let worker = self.workers.get_mut(&incarnation).unwrap();
            let run = worker.run;
            if !worker.is_connected {
                // It ends on request, and loads, without a listener.
                match (worker.ends, worker.life) {
                    (Some(ends), _) if ends <= now => _ = self.workers.remove(&incarnation),
                    (None, Life::Loading { until }) if until <= now => match worker.fault {
                        Fault::None => worker.life = Life::Ready,
                        _ => _ = self.workers.remove(&incarnation),
                    },
                    (None, Life::FrozenEarly { until }) if until <= now => worker.life = Life::Frozen,
                    _ => {}
                }
                continue;
            }
            match (worker.ends, worker.life) {
                (Some(ends), _) if ends <= now => self.bury(incarnation, "it ended on request", false),
                (None, Life::Loading { until }) if until <= now => match worker.fault {
                    Fault::Dies => {
                        self.workers.remove(&incarnation);
                        let result = Err(Failure::worker("it ended while it loaded".into()));
                        self.tell(Event::Started {
                            run,
                            incarnation,
                            result,
                        });
                    }
                    Fault::NeverLoads => self.starts_for_too_long(incarnation),
                    _ => {
                        worker.life = Life::Ready;
                        self.tell(Event::Started {
                            run,
                            incarnation,
                            result: Ok(()),
                        });
                    }
                },
                (None, Life::FrozenEarly { until }) if until <= now => self.starts_for_too_long(incarnation),
                _ => {}
            }
        }
    }

    fn starts_for_too_long(&mut self, incarnation: Incarnation) {
        let worker = self.workers.remove(&incarnation).unwrap();
        for call in worker.calls {
            self.service.waiting.insert(call, (worker.endpoint.clone(), self.now));
        }
        let result = Err(Failure::worker("it took too long to start".into()));
        self.tell(Event::Started {
            run: worker.run,
            incarnation,
            result,
        });
    }

    /// Lets a worker answer nothing any more.
    pub fn freeze(&mut self, incarnation: Incarnation) {
        let worker = self.workers.get_mut(&incarnation).unwrap();
        match worker.life {
            Life::Ready | Life::Frozen => worker.life = Life::Frozen,
            Life::Loading { .. } => self.freeze_early(incarnation),
            Life::FrozenEarly { .. } => {}
        }
    }

    fn freeze_early(&mut self, incarnation: Incarnation) {
        let until = self.now + LONGEST_START;
        self.workers.get_mut(&incarnation).unwrap().life = Life::FrozenEarly { until };
    }

    /// Removes a worker; its calls wait for another one, or end with a reason.
    pub fn bury(&mut self, incarnation: Incarnation, why: &str, produced: bool) {
        let worker = self.workers.remove(&incarnation).unwrap();
        if !worker.is_connected {
            return;
        }
        // A worker that dies while its calls end leaves them to the next worker of its run.
        let dies_early = worker.ends.is_some_and(|ends| ends > self.now);
        let calls = dies_early && !worker.moves && !worker.calls.is_empty();
        for call in worker.calls {
            match worker.moves || worker.ends.is_none() {
                true => _ = self.service.waiting.insert(call, (worker.endpoint.clone(), self.now)),
                false if calls => _ = self.service.unfinished.insert(call, worker.run),
                false => _ = self.open_calls.remove(&call),
            }
        }
        let why = why.to_owned();
        self.tell(Event::Gone {
            incarnation,
            produced,
            calls,
            why,
        });
    }

    /// Sends an event that may come late, twice or never.
    fn tell(&mut self, event: Event<Simulated>) {
        let copies = match (self.chance(self.faults.lost), self.chance(self.faults.doubled)) {
            (true, _) => 0,
            (false, true) => 2,
            (false, false) => 1,
        };
        for _ in 0..copies {
            let due = self.now + self.rng.random_range(0..=self.faults.late);
            self.service.inbox.push((due, event.clone()));
        }
    }

    /// Sends the result of an action; the same action gets the same result again.
    fn tell_once(&mut self, id: ActionId, event: Event<Simulated>) {
        self.service.results.insert(id, event.clone());
        self.tell(event);
    }

    /// Gives the decider an event and carries its actions out.
    pub fn handle(&mut self, event: Event<Simulated>) {
        if self.log.len() < 100_000 {
            self.log.push(format!("{} {event:?}", self.now));
        }
        let actions = self.service.decider.handle(event, self.now);
        self.check();
        self.end_calls_of_dropped_runs();
        for action in actions {
            if self.chance(1) && self.chance(self.faults.killed * 20) {
                return self.kill();
            }
            if self.log.len() < 100_000 {
                self.log.push(format!("    {action:?}"));
            }
            self.carry_out(action);
            if self.is_killed {
                return self.kill();
            }
        }
        self.admit_those_that_wait();
    }

    fn carry_out(&mut self, action: Action<Simulated>) {
        match action {
            Action::Write { id, write } => self.write(id, &write),
            Action::Answer { generation, accepted } => {
                self.service.unanswered.remove(&generation);
                if let Err(refused) = accepted {
                    self.refused.insert(generation, refused);
                }
            }
            Action::Prepare { id, spec, .. } => {
                if let Some(result) = self.service.results.get(&id).cloned() {
                    return self.tell(result);
                }
                let takes = match spec.fault {
                    Fault::NeverPrepared => Millis::MAX / 2,
                    _ => self.rng.random_range(0..4_000),
                };
                let due = self.now + takes;
                self.service.preparing.entry(id).or_insert((due, spec));
            }
            Action::Abandon { id } => {
                self.service.preparing.remove(&id);
                self.service.prepared.remove(&id);
                self.service.results.remove(&id);
            }
            Action::Start(start) => self.start(start),
            Action::Serve { name, run, .. } => {
                self.service.closed.remove(&run);
                self.service.routes.insert(name, run);
            }
            Action::Close { id, run } => {
                let is_used = self
                    .workers
                    .values()
                    .any(|worker| worker.run == run && !worker.calls.is_empty());
                let closed = !is_used;
                if closed {
                    self.service.closed.insert(run);
                }
                self.tell(Event::Closed { id, closed });
            }
            Action::End {
                incarnation,
                within,
                moves,
                run,
            } => self.end(run, incarnation, within, moves),
            Action::Look { incarnation } => match self.workers.get(&incarnation) {
                Some(worker) if worker.life == Life::Frozen => {
                    // The look finds the freeze and kills it.
                    self.bury(incarnation, "it was frozen", false);
                }
                Some(_) => self.tell(Event::Seen { incarnation }),
                None => self.tell(Event::Gone {
                    incarnation,
                    produced: false,
                    calls: false,
                    why: "nothing is there".into(),
                }),
            },
            Action::Refuse { name, .. } => {
                let waiting = &mut self.service.waiting;
                let refused: Vec<u64> = waiting
                    .iter()
                    .filter(|(_, (of, _))| *of == name)
                    .map(|(call, _)| *call)
                    .collect();
                for call in refused {
                    self.service.waiting.remove(&call);
                    self.open_calls.remove(&call);
                }
            }
            Action::Forget { .. } => {}
        }
    }

    fn write(&mut self, id: ActionId, write: &Write<Spec>) {
        if let Some(result) = self.service.results.get(&id).cloned() {
            return self.tell(result);
        }
        if self.chance(1) && self.chance(self.faults.killed * 20) {
            self.is_killed = true;
            return;
        }
        let result = match self.disk_full {
            true => Err(Failure {
                why: "the disk is full".into(),
                about: About::Store,
            }),
            false => {
                if let Err(why) = self.store.write(write) {
                    panic!("{why}\n{}", self.tail());
                }
                Ok(())
            }
        };
        if self.chance(1) && self.chance(self.faults.killed * 20) {
            self.is_killed = true;
        }
        match result {
            // A failed transaction may be written again.
            Err(_) => self.tell(Event::Wrote { id, result }),
            Ok(()) => self.tell_once(id, Event::Wrote { id, result }),
        }
    }

    fn start(&mut self, start: Start) {
        let Start {
            run,
            name,
            prepared,
            incarnation,
            adopt,
            taken,
            ..
        } = start;
        let gone = |why: &str| Event::Started {
            run,
            incarnation,
            result: Err(Failure::worker(why.into())),
        };
        let ready = Event::Started {
            run,
            incarnation,
            result: Ok(()),
        };
        match (self.workers.get_mut(&incarnation), self.service.prepared.get(&prepared)) {
            (Some(worker), _) => {
                worker.run = run;
                match worker.life {
                    Life::Ready => self.tell(ready),
                    // It does not answer those who take it over either.
                    Life::Frozen => self.freeze_early(incarnation),
                    Life::Loading { .. } | Life::FrozenEarly { .. } => {}
                }
            }
            (None, _) if adopt => self.tell(gone("it is no more")),
            (None, None) => self.tell(gone("its preparation was abandoned")),
            // It was started before, and is gone.
            (None, Some(_)) if self.service.results.contains_key(&(incarnation << 32)) => self.tell(gone("it is gone")),
            (None, Some(spec)) => {
                let takes = match spec.fault {
                    Fault::NeverLoads => LONGEST_START,
                    _ => self.rng.random_range(0..6_000),
                };
                let unfinished = &mut self.service.unfinished;
                let calls = unfinished.iter().filter(|(_, of)| **of == run).map(|(call, _)| *call);
                let calls: BTreeSet<u64> = calls.collect();
                calls.iter().for_each(|call| _ = unfinished.remove(call));
                let worker = Worker {
                    endpoint: name,
                    run,
                    machine: spec.made_of(),
                    taken,
                    life: Life::Loading {
                        until: self.now + takes,
                    },
                    fault: spec.fault,
                    ends: None,
                    calls,
                    moves: false,
                    is_connected: true,
                };
                self.workers.insert(incarnation, worker);
                self.service.results.insert(incarnation << 32, gone("it is gone"));
                for place in 0..2 {
                    let here = self.workers.values().filter(|worker| worker.taken.places == [place]);
                    let taken: usize = here.map(|worker| worker.taken.take.own).sum();
                    assert!(taken <= MEMORY, "{taken} bytes of {place} are taken\n{}", self.tail());
                }
            }
        }
    }

    fn end(&mut self, run: Option<RunId>, incarnation: Incarnation, within: Option<Millis>, moves: bool) {
        let now = self.now;
        if let Some(run) = run {
            self.service.closed.insert(run);
        }
        let drains = self.rng.random_range(0..2_000);
        match self.workers.get_mut(&incarnation).filter(|worker| worker.is_connected) {
            None => self.tell(Event::Gone {
                incarnation,
                produced: true,
                calls: false,
                why: "nothing is there".into(),
            }),
            Some(worker) => {
                // A worker that loads has no calls; one that is frozen is killed.
                let takes = match worker.life {
                    Life::Ready => drains.min(within.unwrap_or(drains)),
                    Life::Loading { .. } => 10,
                    Life::Frozen | Life::FrozenEarly { .. } => within.unwrap_or(KILL).min(60_000) + KILL,
                };
                worker.moves = moves;
                worker.ends = Some(worker.ends.map_or(now + takes, |ends| ends.min(now + takes)));
            }
        }
    }

    /// A call arrives.
    pub fn call(&mut self, name: &str) {
        self.next_call += 1;
        let call = self.next_call;
        self.open_calls.insert(call);
        self.service.waiting.insert(call, (name.to_owned(), self.now));
        self.admit_those_that_wait();
        if self.service.waiting.contains_key(&call) {
            self.handle(Event::Called { name: name.to_owned() });
        }
    }

    /// Ends some calls.
    pub fn answer_calls(&mut self) {
        for worker in self.workers.values_mut().filter(|worker| worker.life == Life::Ready) {
            for call in std::mem::take(&mut worker.calls) {
                self.open_calls.remove(&call);
            }
        }
    }

    fn admit_those_that_wait(&mut self) {
        for (call, (name, _)) in self.service.waiting.clone() {
            match self.service.decider.admit(&name) {
                Admission::Run(run) => {
                    let closed = self.service.closed.contains(&run);
                    let worker = self.workers.values_mut().find(|worker| worker.run == run);
                    if let Some(worker) = worker.filter(|worker| worker.ends.is_none() && !closed) {
                        worker.calls.insert(call);
                        self.service.waiting.remove(&call);
                    }
                }
                Admission::Wait => {}
                Admission::Refused(_) | Admission::Unknown => {
                    self.service.waiting.remove(&call);
                    self.open_calls.remove(&call);
                }
            }
        }
    }

    /// Reports calls that wait for long again, as their threads do.
    pub fn call_again(&mut self) {
        let names: BTreeSet<String> = self.service.waiting.values().map(|(name, _)| name.clone()).collect();
        for name in names {
            self.handle(Event::Called { name });
        }
    }

    pub fn request(&mut self, name: &str, change: Change<Spec>) {
        self.last_generation += 1;
        let generation = self.last_generation;
        self.service.unanswered.insert(generation);
        self.handle(Event::Requested {
            name: name.to_owned(),
            generation,
            change,
        });
    }

    /// Ends calls with a reason whose run is no more.
    fn end_calls_of_dropped_runs(&mut self) {
        let decider = &self.service.decider;
        let runs = decider.endpoints().values().flat_map(|endpoint| &endpoint.runs);
        let runs: BTreeSet<RunId> = runs.map(|run| run.id).collect();
        let open = &mut self.open_calls;
        self.service.unfinished.retain(|call, run| {
            let lives = runs.contains(run);
            if !lives {
                open.remove(call);
            }
            lives
        });
    }

    /// Checks the invariants of every moment.
    fn check(&self) {
        let decider = &self.service.decider;
        let held: usize = decider.ledgers().all()["sim"].memory.holdings().count();
        let runs = decider.endpoints().values().flat_map(|endpoint| &endpoint.runs);
        let holding = runs.filter(|run| run.hold.is_some()).count();
        let left = decider.workers_without_run().len();
        assert!(
            (holding..=holding + left).contains(&held),
            "{held} holdings for {holding} runs and {left} workers\n{}",
            self.tail()
        );
        for (name, endpoint) in decider.endpoints() {
            for run in &endpoint.runs {
                let has_worker = run.incarnation().is_some();
                assert!(!has_worker || run.hold.is_some(), "{name}: {run:?}\n{}", self.tail());
            }
            let current = endpoint.current.map(|id| endpoint.run(id));
            assert!(
                current.is_none_or(|run| run.is_some_and(|run| !run.is_leaving())),
                "{name}\n{}",
                self.tail()
            );
        }
    }

    /// Returns the end of the log.
    pub fn tail(&self) -> String {
        let most = std::env::var("ENDURE_LOG")
            .ok()
            .and_then(|most| most.parse().ok())
            .unwrap_or(120);
        let begin = self.log.len().saturating_sub(most);
        self.log[begin..].join("\n")
    }
}
