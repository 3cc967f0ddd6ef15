//! The ledger of all devices, as the decider reserves in it.

use super::{Failure, Incarnation, RunId};
use crate::core_share::CoreShare;
use crate::cores::{CoreLedger, CoreRequest, NoCores};
use crate::ledger::{Ledger, Read, Room};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The memory and the cores that something needs on a kind of device.
pub trait Need: Clone {
    /// Returns the name of the kind of device.
    fn device(&self) -> &str;
    /// Returns how many of them it takes.
    fn count(&self) -> usize;
    /// Returns the name of what it reads and others may read, too.
    fn reads(&self) -> Option<&str>;
    /// Returns the cores that it takes; the request counts on devices with cores only.
    fn cores(&self) -> CoreRequest;
    /// Returns the identity of a worker that would do, which an earlier service may have left.
    fn worker(&self) -> &str;
    /// Returns the bytes that it takes of each device where there is so much room, and it has so many threads.
    ///
    /// # Errors
    /// Why the room does not do.
    fn take(&self, room: &Room, threads: usize) -> Result<Take, Failure>;
    /// Returns why it cannot be where its cores cannot be had.
    fn without_cores(&self, refused: NoCores) -> Failure;
}

/// The memory that a holder takes of each device.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Take {
    /// Private bytes.
    pub own: usize,
    /// Bytes of what it reads and others may read, too.
    pub read: usize,
}

/// A holder of memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holder {
    /// A run.
    Run(RunId),
    /// A worker of an earlier service, before its adoption.
    Left(Incarnation),
}

/// Memory and cores that are taken of certain devices.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taken {
    /// The kind of device.
    pub device: String,
    /// Which of them, by number from 0 on.
    pub places: Vec<usize>,
    /// Bytes of each.
    pub take: Take,
    /// The name of what is read and others may read, too.
    pub reads: Option<String>,
    /// Bytes of each that were free, or of what is read and was there, when this was taken.
    pub room: usize,
    /// Bytes of what is read that were there.
    pub there: usize,
    /// The others who held anything there, with their bytes of each.
    #[serde(default)]
    pub holders: Vec<(String, usize)>,
    /// Cores that were named; the others are shared.
    pub cores: Option<CoreShare>,
    /// Threads that compute; 0 on devices without cores.
    pub threads: usize,
}

/// Memory and cores that are held.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hold {
    number: u64,
    cores: Option<u64>,
    /// The memory and cores.
    pub taken: Taken,
}

/// The ledger of a kind of device.
#[derive(Clone, Debug)]
pub struct DeviceLedger {
    /// Memory.
    pub memory: Ledger<Holder>,
    /// Cores; nothing on devices without cores.
    pub cores: Option<CoreLedger>,
}

/// The ledger of each kind of device, by its name.
#[derive(Clone, Debug, Default)]
pub struct Ledgers(BTreeMap<String, DeviceLedger>);

impl Ledgers {
    /// Adds a kind of device: so many with so many bytes each, and cores where it has some. One of which anything is held stays as it is.
    pub fn add(&mut self, device: &str, count: usize, memory: usize, cores: Option<CoreLedger>) {
        if self.0.get(device).is_none_or(|ledger| ledger.memory.is_free()) {
            let memory = Ledger::new(count, memory);
            self.0.insert(device.to_owned(), DeviceLedger { memory, cores });
        }
    }

    /// Returns the ledger of each kind of device, by its name.
    pub fn all(&self) -> &BTreeMap<String, DeviceLedger> {
        &self.0
    }

    /// Returns the cores that a holder has now; cores that no spec names are shared with other holders.
    pub fn cores_of(&self, hold: &Hold) -> CoreShare {
        let cores = self.0.get(&hold.taken.device).and_then(|ledger| ledger.cores.as_ref());
        let share = cores.zip(hold.cores).map(|(cores, number)| cores.share(number));
        share.unwrap_or_default()
    }

    /// Returns the ledgers as they would be without an owner.
    pub fn without(&self, owner: &str) -> Ledgers {
        let mut others = self.clone();
        for ledger in others.0.values_mut() {
            ledger.memory.forget(owner);
            ledger.cores.iter_mut().for_each(|cores| cores.forget(owner));
        }
        others
    }

    /// Returns what something would take on the first kind of device that has room.
    ///
    /// # Errors
    /// Why none has.
    pub fn would_take<N: Need>(&self, owner: &str, needs: &[N]) -> Result<Taken, Failure> {
        let nobody = Holder::Left(Incarnation::MAX);
        self.clone().hold(owner, needs, nobody).map(|hold| hold.taken)
    }

    /// Holds memory and cores on the first kind of device that has room.
    ///
    /// # Errors
    /// Why none has.
    pub(super) fn hold<N: Need>(&mut self, owner: &str, needs: &[N], holder: Holder) -> Result<Hold, Failure> {
        let mut reasons: Vec<Failure> = Vec::new();
        for need in needs {
            match self.hold_one(owner, need, holder) {
                Ok(hold) => return Ok(hold),
                // Another device may have the room that is missing here.
                Err(failure) if failure.is_for_want_of_room() => reasons.push(failure),
                Err(failure) => return Err(failure),
            }
        }
        match reasons.len() {
            1 => Err(reasons.remove(0)),
            _ => {
                let each: Vec<String> = reasons.into_iter().map(|reason| reason.why).collect();
                Err(Failure::room(format!(
                    "none of its devices has room: {}",
                    each.join("; ")
                )))
            }
        }
    }

    fn hold_one<N: Need>(&mut self, owner: &str, need: &N, holder: Holder) -> Result<Hold, Failure> {
        let device = need.device();
        let ledger = self.0.get_mut(device);
        let ledger = ledger.ok_or_else(|| Failure::other(format!("there is no device `{device}`")))?;
        let room = ledger.memory.room(need.count(), need.reads());
        let room =
            room.ok_or_else(|| Failure::other(format!("`{device}` are fewer than the {} needed", need.count())))?;
        let grant = match &mut ledger.cores {
            Some(cores) => Some(
                cores
                    .take(owner, need.cores())
                    .map_err(|refused| need.without_cores(refused))?,
            ),
            None => None,
        };
        let (number, threads) = (grant.map(|grant| grant.number), grant.map_or(0, |grant| grant.threads));
        let held = need.take(&room, threads.max(1)).and_then(|take| {
            let taken = Taken {
                device: device.to_owned(),
                take,
                room: room.free.saturating_add(room.there),
                there: room.there,
                holders: room.holders,
                places: room.places,
                reads: need.reads().map(str::to_owned),
                cores: match need.cores() {
                    CoreRequest::Named(share) if number.is_some() => Some(share),
                    _ => None,
                },
                threads,
            };
            ledger.hold(owner, &taken, holder).map(|memory| (memory, taken))
        });
        match held {
            Ok((memory, taken)) => Ok(Hold {
                number: memory,
                cores: number,
                taken,
            }),
            Err(failure) => {
                ledger.give_back_cores(number);
                Err(failure)
            }
        }
    }

    /// Holds memory and cores of certain devices.
    ///
    /// # Errors
    /// When they have not so much, or are not there.
    pub(super) fn hold_taken(&mut self, owner: &str, taken: Taken, holder: Holder) -> Result<Hold, Failure> {
        let device = &taken.device;
        let ledger = self.0.get_mut(device);
        let ledger = ledger.ok_or_else(|| Failure::other(format!("there is no device `{device}`")))?;
        let number = ledger.hold(owner, &taken, holder)?;
        let request = match taken.cores {
            Some(share) => CoreRequest::Named(share),
            None => CoreRequest::Free {
                least: taken.threads,
                most: taken.threads,
            },
        };
        let cores = ledger
            .cores
            .as_mut()
            .map(|cores| cores.take(owner, request))
            .transpose();
        match cores {
            Ok(grant) => Ok(Hold {
                number,
                cores: grant.map(|grant| grant.number),
                taken,
            }),
            Err(refused) => {
                ledger.memory.give_back(number);
                Err(Failure::room(refused.to_string()))
            }
        }
    }

    /// Gives memory and cores back.
    pub(super) fn give_back(&mut self, hold: &Hold) {
        if let Some(ledger) = self.0.get_mut(&hold.taken.device) {
            ledger.memory.give_back(hold.number);
            ledger.give_back_cores(hold.cores);
        }
    }

    /// Hands memory over to another holder.
    pub(super) fn hand_over(&mut self, hold: &Hold, to: Holder) {
        if let Some(ledger) = self.0.get_mut(&hold.taken.device) {
            ledger.memory.hand_over(hold.number, to);
        }
    }
}

impl DeviceLedger {
    fn hold(&mut self, owner: &str, taken: &Taken, holder: Holder) -> Result<u64, Failure> {
        let Taken {
            device,
            places,
            take,
            reads,
            ..
        } = taken;
        let read = reads.as_ref().map(|what| Read {
            what: what.clone(),
            bytes: take.read,
        });
        let number = self.memory.hold(owner, places, take.own, read, holder);
        number.map_err(|overbooked| Failure::room(format!("{device}: {overbooked}")))
    }

    fn give_back_cores(&mut self, number: Option<u64>) {
        if let Some((cores, number)) = self.cores.as_mut().zip(number) {
            cores.give_back(number);
        }
    }
}
